"""Who is served when: nobody waits for ever, and one account's heavy requests are its own affair."""

import threading
import time

import pytest

from bold_anode.frame.shares import Shares
from thermionic import budget
from thermionic.errors import BudgetSpent


class Crowd:
    """Requests in threads of their own, and the order in which their turns came."""

    def __init__(self, shares):
        self.shares, self.came, self.threads = shares, [], []

    def ask(self, who, name, hold=None, seconds=10.0, edit=False):
        def run():
            with self.shares.turn(who, seconds, edit=edit) as turn:
                self.came.append((name, turn is not None))
                if turn is not None and hold is not None:
                    hold.wait(10)

        before = len(self.came)
        thread = threading.Thread(target=run)
        thread.start()
        self.threads.append(thread)
        until = time.monotonic() + 0.1
        while len(self.came) == before and time.monotonic() < until:
            time.sleep(0.005)

    def all_gone(self):
        for thread in self.threads:
            thread.join(10)
            assert not thread.is_alive()


def test_turns_come_in_the_order_of_asking_but_for_an_account_that_has_its_share():
    crowd, hold = Crowd(Shares(at_once=1, waiting=5, abreast=2, front_seconds=60)), threading.Event()
    for who, name in (("ada", "a1"), ("ada", "a2"), ("bo", "b1"), ("cy", "c1"), ("ada", "a3")):
        crowd.ask(who, name, hold)
    assert crowd.came == [("a1", True), ("b1", True)]
    hold.set()
    crowd.all_gone()
    assert sorted(crowd.came[2:4]) == [("a2", True), ("c1", True)]
    assert crowd.came[4] == ("a3", True)


def test_one_account_cannot_fill_the_line():
    crowd, hold = Crowd(Shares(at_once=1, waiting=2, abreast=4, front_seconds=60)), threading.Event()
    for name in ("a1", "a2", "a3", "a4"):
        crowd.ask("ada", name, hold)
    assert crowd.came == [("a1", True), ("a4", False)]
    crowd.ask("bo", "b1", hold)
    assert crowd.came[-1] == ("b1", True)
    hold.set()
    crowd.all_gone()


def test_who_waits_too_long_is_told_so_and_leaves_the_line():
    crowd, hold = Crowd(Shares(at_once=1, waiting=2, abreast=4, front_seconds=60)), threading.Event()
    crowd.ask("ada", "a1", hold)
    crowd.ask("ada", "a2", hold, seconds=0.02)
    assert crowd.came == [("a1", True), ("a2", False)]
    hold.set()
    crowd.all_gone()
    crowd.ask("ada", "a3")
    assert crowd.came[-1] == ("a3", True)


def test_what_takes_long_makes_room_and_goes_on():
    shares = Shares(at_once=1, waiting=2, abreast=1, front_seconds=0.05)
    crowd = Crowd(shares)
    with shares.turn("ada", 1, edit=False) as turn, budget.limit(10, meanwhile=turn.make_room):
        budget.check("solving")
        crowd.ask("bo", "b1")
        assert crowd.came == []
        time.sleep(0.06)
        budget.check("solving")
        crowd.all_gone()
        assert crowd.came == [("b1", True)]
    crowd.ask("cy", "c1")
    assert crowd.came[-1] == ("c1", True)


def test_what_can_wait_waits_for_edits_and_only_so_long():
    shares = Shares(at_once=1, waiting=2, abreast=2, front_seconds=60)
    crowd, hold = Crowd(shares), threading.Event()
    crowd.ask("ada", "edit", hold, edit=True)
    threading.Timer(0.2, hold.set).start()
    began = time.monotonic()
    shares.edits_first()
    assert 0.1 < time.monotonic() - began < 5
    crowd.all_gone()
    shares.edits_first()


def test_limits_within_each_other_all_hold():
    called = []
    with budget.limit(60, meanwhile=lambda: called.append("outer")):
        with budget.limit(0.0, meanwhile=lambda: called.append("inner")):
            time.sleep(0.001)
            with pytest.raises(BudgetSpent):
                budget.check("this")
        budget.check("that")
    budget.check("nothing")
    assert called == ["outer", "inner", "outer"]
