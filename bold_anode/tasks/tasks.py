"""What the queue in the database hands to a worker."""

from __future__ import annotations

from procrastinate import JobContext, RetryStrategy
from procrastinate.contrib.django import app
from procrastinate.exceptions import JobAborted

from bold_anode.tasks.operations import CalledOff, do_work, is_anything_waiting, take_up

_ATTEMPTS = 5
_AGAIN_SECONDS = 1


@app.task(name="work", pass_context=True, retry=RetryStrategy(max_attempts=_ATTEMPTS, wait=2))
def do(context: JobContext, work_id: int | None = None) -> None:
    """Do the piece of work whose turn it is. A worker that is told to stop leaves it to the next. Jobs that an
    earlier version put into the queue name the work that they were asked for with; its turn comes as any other's."""
    job = context.job.id if context.job is not None else None
    assert job is not None, "a job that a worker does is in the queue"
    result = take_up(job)
    if result is None:
        if is_anything_waiting():  # of accounts that have enough at work now
            do.configure(schedule_in={"seconds": _AGAIN_SECONDS}).defer()
        return
    try:
        do_work(result, must_stop=context.should_abort)
    except CalledOff:
        raise JobAborted from None


@app.periodic(cron="* * * * * */10")
@app.task(name="take up", queueing_lock="take up")
async def take_up_again(timestamp: int) -> None:
    """Hand on what workers had begun that are gone."""
    manager = app.job_manager
    for job in await manager.get_stalled_jobs(seconds_since_heartbeat=20):
        await manager.retry_job(job)
    if timestamp % 3600 == 0:
        await manager.delete_old_jobs(nb_hours=24, include_failed=True, include_cancelled=True, include_aborted=True)
