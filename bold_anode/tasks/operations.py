"""Asking for work, doing it, and calling it off."""

from __future__ import annotations

import logging
import time
from collections import Counter
from collections.abc import Callable
from datetime import timedelta
from typing import Any

from django.conf import settings
from django.db import connection, transaction
from django.db.models import Max
from django.shortcuts import get_object_or_404
from django.utils import timezone
from procrastinate.contrib.django.models import ProcrastinateJob, ProcrastinateWorker

from bold_anode.frame.owned import alone
from bold_anode.tasks import kinds
from bold_anode.tasks.models import State, Work
from thermionic import budget
from thermionic.errors import ThermionicError, ValueRefused

# So much of a user's may wait or be worked on at once.
MOST_UNDER_WAY = 20
_REPORT_SECONDS = 0.4
_HEARTBEAT_SECONDS = 30
_TURNS = 7_310_004  # the lock under which turns are given
_log = logging.getLogger("bold_anode.tasks")


class CalledOff(Exception):
    """The work was cancelled, or its worker is to stop."""


def ask(user: Any, kind: str, about: str, arguments: dict[str, Any] | None = None, revision: Any = None) -> Work:
    """The work of this kind about this: what is under way or done already, else new work for the next free worker.

    Raises ValueRefused where too much of the user's is under way.
    """
    from bold_anode.tasks.tasks import do

    same = Work.objects.of(user).filter(kind=kind, about=about).exclude(state__in=(State.REFUSED, State.CANCELLED))
    there = same.first()
    if there is not None:
        return there
    with alone(user):
        there = same.first()
        if there is not None:  # another window asked a moment before
            return there
        if Work.objects.of(user).under_way().count() >= MOST_UNDER_WAY:
            raise ValueRefused(
                f"{MOST_UNDER_WAY} things are being worked out for you already; wait for one, or cancel one."
            )
        work = Work.objects.create(owner=user, kind=kind, about=about, arguments=arguments or {}, revision=revision)
        # In the same transaction: there are never fewer jobs than pieces of work that wait.
        do.defer()
    return work


def cancel(user: Any, work_id: int) -> Work:
    """Call work off; what is done already stays. Raises Http404 for anybody else's."""
    work: Work = get_object_or_404(Work.objects.of(user), pk=work_id)
    Work.objects.filter(pk=work.pk).under_way().update(state=State.CANCELLED, ended_at=timezone.now())
    work.refresh_from_db()
    return work


def asked(user: Any, kind: str, about: str) -> Work | None:
    """The latest work of this kind about this, however it ended; None if it was never asked for."""
    return Work.objects.of(user).filter(kind=kind, about=about).first()


def forget(user: Any, kind: str, about: str = "") -> None:
    """Delete what has ended of this kind, about this or about anything, with its result."""
    ended = Work.objects.of(user).filter(kind=kind).exclude(state__in=(State.WAITING, State.WORKING))
    (ended.filter(about=about) if about else ended).delete()


def take_up(job: int) -> int | None:
    """The work that a job of the queue is to do, marked as being worked on: what the job had begun before its worker
    died, else whatever is next. None where nothing waits, or all that waits is of accounts with enough at work.

    A job stands for no work of its own. Accounts have turns: first who has the least at work, then who was served
    longest ago; an account's short work goes before its long work.
    """
    with transaction.atomic(), connection.cursor() as cursor:
        cursor.execute("SELECT pg_advisory_xact_lock(%s)", [_TURNS])
        begun = Work.objects.filter(job=job, state=State.WORKING).values_list("pk", flat=True).first()
        if begun is not None:
            return begun
        _let_go()
        at_work = Counter(Work.objects.filter(state=State.WORKING).values_list("owner_id", flat=True))
        most = max(1, _workers() - 1)
        waiting = Work.objects.filter(state=State.WAITING).values_list("pk", "owner_id", "kind")
        served: dict[int, Any] = dict(
            Work.objects.filter(owner__in={owner for _, owner, _ in waiting}, started_at__isnull=False)
            .order_by()
            .values_list("owner_id")
            .annotate(Max("started_at"))
        )
        result = min(
            (one for one in waiting if at_work[one[1]] < most),
            key=lambda one: (
                at_work[one[1]],
                served[one[1]].timestamp() if one[1] in served else 0.0,
                kinds.is_long(one[2]),
                one[0],
            ),
            default=None,
        )
        if result is None:
            return None
        Work.objects.filter(pk=result[0]).update(state=State.WORKING, started_at=timezone.now(), job=job)
        return result[0]


def _let_go() -> None:
    """End what no job will take up again, so that it takes up nobody's turn."""
    at_work = Work.objects.filter(state=State.WORKING)
    at_work.filter(job=None).update(state=State.WAITING)  # begun by a version that wrote down no job
    active = ProcrastinateJob.objects.filter(status__in=("todo", "doing")).values("id")
    at_work.exclude(job__in=active).update(
        state=State.REFUSED, refusal="Each worker that began this ended before it was done. The log has why.",
        ended_at=timezone.now(),
    )  # fmt: skip


def is_anything_waiting() -> bool:
    """Whether any work waits for its turn."""
    return Work.objects.filter(state=State.WAITING).exists()


def do_work(work_id: int, must_stop: Callable[[], bool] = lambda: False) -> None:
    """Do a piece of work and keep its result; nothing if it was called off, or is done already.

    Raises CalledOff where ``must_stop`` says so; then it is as if it had not been begun.
    """
    if not Work.objects.filter(pk=work_id).under_way().update(state=State.WORKING, part=0.0):
        return
    work = Work.objects.get(pk=work_id)
    report = _Report(work_id, must_stop)
    try:
        with budget.limit(settings.TASK_SECONDS, meanwhile=report.look_up):
            ended = {"state": State.DONE, "result": kinds.doing(work.kind)(work, report), "part": 1.0}
    except ThermionicError as refusal:
        ended = {"state": State.REFUSED, "refusal": str(refusal)}
    except CalledOff:
        if must_stop():
            raise
        return
    except Exception:
        _log.exception("work %s (%s) failed", work_id, work.kind)
        ended = {"state": State.REFUSED, "refusal": "That went wrong, and it was our fault. The log has it."}
    # Only if it has not been called off meanwhile.
    Work.objects.filter(pk=work_id, state=State.WORKING).update(**ended, ended_at=timezone.now())


class _Report:
    """Keeps how far a piece of work is, and looks up whether it is still wanted, now and then."""

    def __init__(self, work_id: int, must_stop: Callable[[], bool]) -> None:
        self.work_id, self.must_stop = work_id, must_stop
        self.part, self.said, self.last = 0.0, "", time.monotonic()

    def __call__(self, part: float, said: str = "") -> None:
        self.part, self.said = part, said[:200]
        self.look_up()

    def look_up(self) -> None:
        """Raise CalledOff if it is to stop."""
        now = time.monotonic()
        if now - self.last < _REPORT_SECONDS:
            return
        self.last = now
        rows = Work.objects.filter(pk=self.work_id, state=State.WORKING)
        if self.must_stop() or not rows.update(part=self.part, said=self.said):
            raise CalledOff


def is_worker_alive() -> bool:
    """Whether any worker has been heard of lately."""
    return _workers() > 0


def _workers() -> int:
    since = timezone.now() - timedelta(seconds=_HEARTBEAT_SECONDS)
    return ProcrastinateWorker.objects.filter(last_heartbeat__gte=since).count()
