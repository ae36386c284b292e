"""Work in the background: asked for once, cancelled, taken up again, its result kept."""

import pytest
from django.db import connection
from django.urls import reverse
from procrastinate.contrib.django.models import ProcrastinateJob

from bold_anode.powerup.operations import start_set_on
from bold_anode.tasks import kinds, operations
from bold_anode.tasks.models import State, Work
from thermionic import budget
from thermionic.errors import NoSolution, ValueRefused
from thermionic.powerup import Step

KIND = "counting"


@pytest.fixture
def counting(monkeypatch):
    """A kind of work whose steps a test can watch and break into."""
    steps = []

    def count(work, report):
        for step in range(4):
            steps.append(step)
            report(step / 4, f"step {step}")
            work.arguments.get("spoil") and _spoil(work, step)
            budget.check("counting")
        return {"counted": len(steps)}

    def _spoil(work, step):
        if step == 2:
            if work.arguments["spoil"] == "refuse":
                raise NoSolution("It cannot be counted.")
            if work.arguments["spoil"] == "break":
                raise ZeroDivisionError
            operations.cancel(work.owner, work.pk)

    monkeypatch.setattr(kinds, "_kinds", {KIND: count})
    monkeypatch.setattr(operations, "_REPORT_SECONDS", -1.0)
    return steps


def test_the_same_is_asked_for_once_and_its_result_kept(owner, counting, worker):
    first = operations.ask(owner, KIND, "sheep", {"flock": 3})
    assert operations.ask(owner, KIND, "sheep") == first
    assert ProcrastinateJob.objects.filter(task_name="work").count() == 1
    worker()
    first.refresh_from_db()
    assert (first.state, first.part, first.result) == (State.DONE, 1.0, {"counted": 4})
    operations.do_work(first.pk)  # a worker that died after its result was kept is followed by another
    assert len(counting) == 4
    assert operations.ask(owner, KIND, "sheep") == first


@pytest.mark.parametrize(
    ("spoil", "state", "says"),
    [
        ("refuse", State.REFUSED, "It cannot be counted."),
        ("break", State.REFUSED, "our fault"),
        ("cancel", State.CANCELLED, ""),
    ],
)
def test_work_that_ends_otherwise_says_so_and_can_be_asked_for_again(owner, counting, worker, spoil, state, says):
    work = operations.ask(owner, KIND, "sheep", {"spoil": spoil})
    worker()
    work.refresh_from_db()
    assert (work.state, work.result) == (state, None)
    assert says in work.refusal
    assert len(counting) == 3
    assert operations.ask(owner, KIND, "sheep") != work


def test_what_a_stopped_worker_had_begun_is_begun_again(owner, counting):
    work = operations.ask(owner, KIND, "sheep")
    with pytest.raises(operations.CalledOff):
        operations.do_work(work.pk, must_stop=lambda: len(counting) == 2)
    work.refresh_from_db()
    assert work.is_under_way
    operations.do_work(work.pk)
    work.refresh_from_db()
    assert (work.state, work.result) == (State.DONE, {"counted": 6})


def test_no_more_waits_for_one_user_than_is_fair(owner, stranger, counting):
    for count in range(operations.MOST_UNDER_WAY):
        operations.ask(owner, KIND, f"flock {count}")
    with pytest.raises(ValueRefused, match="20 things"):
        operations.ask(owner, KIND, "one more")
    operations.ask(stranger, KIND, "one more")


def job():
    """A job of the queue that a worker has begun."""
    with connection.cursor() as cursor:
        cursor.execute(
            "INSERT INTO procrastinate_jobs (queue_name, task_name, args, status) "
            "VALUES ('default', 'work', '{}', 'doing') RETURNING id"
        )
        return cursor.fetchone()[0]


def taken_in_turn():
    """Take up one piece of work after another, as one worker does, until none waits; whose and of what kind."""
    order = []
    while True:
        number = job()
        result = operations.take_up(number)
        if result is None:
            return order
        work = Work.objects.get(pk=result)
        assert operations.take_up(number) == result  # the next worker goes on with what a dead one had begun
        order.append((work.owner.username, work.kind, work.about))
        operations.do_work(result)


@pytest.fixture
def kinds_of_two_lengths(monkeypatch):
    monkeypatch.setattr(kinds, "_kinds", {"short": lambda work, report: 1, "long": lambda work, report: 2})
    monkeypatch.setattr(kinds, "_long", {"long"})


def test_accounts_have_turns_and_short_work_goes_before_long(owner, stranger, kinds_of_two_lengths, monkeypatch):
    monkeypatch.setattr(operations, "MOST_UNDER_WAY", 200)
    for count in range(5):
        operations.ask(owner, "long", str(count))
    operations.ask(owner, "short", "a")
    operations.ask(stranger, "long", "b")
    operations.ask(stranger, "short", "c")
    order = taken_in_turn()
    assert order[:4] == [("ada", "short", "a"), ("eve", "short", "c"), ("ada", "long", "0"), ("eve", "long", "b")]
    assert [about for _, _, about in order[4:]] == ["1", "2", "3", "4"]
    for count in range(200):
        operations.ask(owner, "long", f"again {count}")
    running = operations.take_up(job())
    operations.ask(stranger, "long", "mine")
    operations.do_work(running)
    assert taken_in_turn()[0] == ("eve", "long", "mine")  # after one task at most


def test_an_account_has_all_workers_but_one_at_most(owner, stranger, kinds_of_two_lengths):
    def alive(count):
        with connection.cursor() as cursor:
            cursor.execute("DELETE FROM procrastinate_workers")
            for _ in range(count):
                cursor.execute("INSERT INTO procrastinate_workers (last_heartbeat) VALUES (now())")

    for count in range(5):
        operations.ask(owner, "long", str(count))
    alive(3)
    assert operations.take_up(job()) is not None
    assert operations.take_up(job()) is not None
    assert operations.take_up(job()) is None
    assert operations.is_anything_waiting()
    operations.ask(stranger, "long", "b")
    assert Work.objects.get(pk=operations.take_up(job())).owner == stranger
    alive(4)
    assert Work.objects.get(pk=operations.take_up(job())).owner == owner


def test_who_has_less_at_work_goes_before_who_was_served_longer_ago(owner, stranger, kinds_of_two_lengths):
    with connection.cursor() as cursor:
        cursor.execute("INSERT INTO procrastinate_workers (last_heartbeat) SELECT now() FROM generate_series(1, 4)")
    for count in range(3):
        operations.ask(owner, "long", str(count))
        operations.ask(stranger, "long", str(count))
    first, second = operations.take_up(job()), operations.take_up(job())
    assert [Work.objects.get(pk=work).owner for work in (first, second)] == [owner, stranger]
    operations.do_work(second)
    assert Work.objects.get(pk=operations.take_up(job())).owner == stranger


def test_what_no_job_will_take_up_again_takes_nobodys_turn(owner, kinds_of_two_lengths):
    lost, before = operations.ask(owner, "short", "lost"), operations.ask(owner, "short", "of an earlier version")
    Work.objects.filter(pk=lost.pk).update(state=State.WORKING, job=10**9)
    Work.objects.filter(pk=before.pk).update(state=State.WORKING, job=None)
    assert [about for _, _, about in taken_in_turn()] == ["of an earlier version"]
    lost.refresh_from_db()
    assert lost.state == State.REFUSED
    assert lost.refusal.endswith("The log has why.")


def test_nobody_else_can_cancel_it(client, bench, owner, stranger, counting):
    work = operations.ask(owner, KIND, "sheep")
    client.force_login(stranger)
    assert client.post(reverse("work-cancel", args=[work.pk])).status_code == 404
    assert Work.objects.get().is_under_way
    client.force_login(owner)
    assert client.post(reverse("work-cancel", args=[work.pk])).status_code == 204
    assert Work.objects.get().state == State.CANCELLED


def test_the_page_says_how_far_it_is_and_whether_anybody_works(bench, owner, project):
    reading_set = start_set_on(project.current, Step.ALL_TUBES, 230.0, "left")
    meaning = reverse("meaning", args=[reading_set.pk])
    bench.post(reverse("reading", args=[reading_set.pk]), {"point": "output_cathode", "volt": "4.8"})
    assert "no worker is running" in bench.get(meaning).content.decode()
    with connection.cursor() as cursor:
        cursor.execute("INSERT INTO procrastinate_workers (last_heartbeat) VALUES (now())")
    Work.objects.update(state=State.WORKING, part=0.4, said="Half way")
    page = bench.get(meaning).content.decode()
    assert "no worker" not in page
    assert "Half way" in page
    assert 'value="0.400"' in page
    assert 'hx-trigger="every 1s"' in page
    work = Work.objects.get()
    assert work.revision == project.current
    bench.post(reverse("work-cancel", args=[work.pk]))
    page = bench.get(meaning).content.decode()
    assert "Cancelled" in page
    assert "hx-trigger" not in page
    assert Work.objects.count() == 1
    bench.post(meaning)
    assert Work.objects.under_way().count() == 1
