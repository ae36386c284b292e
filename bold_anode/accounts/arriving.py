"""Taking in an export of an account: kept as it came, then read and stored by a process of its own."""

from __future__ import annotations

import io
from typing import Any

from django.db import transaction

from bold_anode.accounts import carrying
from bold_anode.accounts.models import Upload
from bold_anode.frame.apart import apart, in_application
from bold_anode.frame.owned import alone
from bold_anode.tasks import operations as tasks
from bold_anode.tasks.kinds import Report
from bold_anode.tasks.models import Work
from thermionic.errors import DesignRefused, ValueRefused

IMPORT = "import a workshop"
MOST_BYTES = 20_000_000  # of the zip
SECONDS, MEGABYTES = 240, 2_000


def ask(user: Any, name: str, content: bytes) -> Work:
    """Have a worker take in an export. Raises DesignRefused for what is seen at once to be none, ValueRefused while
    another is under way."""
    if len(content) > MOST_BYTES:
        raise DesignRefused(
            f"The file is {len(content) / 1e6:.0f} MB; {MOST_BYTES / 1e6:.0f} MB is the most that is read."
        )
    if not content.startswith(b"PK"):
        raise DesignRefused("The file is no export of a workshop: choose the .zip that Export everything gave.")
    with alone(user):
        if Work.objects.of(user).filter(kind=IMPORT).under_way().exists():
            raise ValueRefused("An import is under way. Wait for it, or cancel it.")
        Upload.objects.filter(owner=user).delete()
        upload = Upload.objects.create(owner=user, name=name[:80] or "No name", content=content)
        tasks.forget(user, IMPORT)
        return tasks.ask(user, IMPORT, str(upload.pk), {"upload": upload.pk, "name": upload.name})


def latest(user: Any) -> Work | None:
    """The latest import that was asked for."""
    return Work.objects.of(user).filter(kind=IMPORT).first()


def do(work: Work, report: Report) -> dict[str, int]:
    """Read and store an upload: the work of ``ask``. Returns how many things of each kind came."""
    report(0.0, f"Reading {work.arguments['name']}")
    upload = work.arguments["upload"]
    try:
        return apart(in_application, f"{__name__}:take_in", upload, seconds=SECONDS, megabytes=MEGABYTES)
    except (DesignRefused, ValueRefused):
        Upload.objects.filter(pk=upload).delete()
        raise


@transaction.atomic
def take_in(upload_id: int) -> dict[str, int]:
    """Store what an upload holds, and delete it. Raises DesignRefused."""
    upload = Upload.objects.select_for_update().select_related("owner").filter(pk=upload_id).first()
    if upload is None:  # a worker that was killed had got so far
        raise DesignRefused("It was taken in already; look at the workshop.")
    came = carrying.unpack(upload.owner, io.BytesIO(upload.content))
    upload.delete()
    return came
