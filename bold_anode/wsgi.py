"""The WSGI entry point that bold_anode.serving serves."""

import gc
import os

from django.core.wsgi import get_wsgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "bold_anode.settings")
application = get_wsgi_application()


def warm_up() -> None:
    """Load what every edit needs, compiled functions and tubes, which the first page does not wait for."""
    from thermionic import findings
    from thermionic.amplifier import solve
    from thermionic.examples import example

    findings.examine(solve(example("lantern")))
    # What is loaded by now stays for good: the collector need not go through it again with every change.
    gc.collect()
    gc.freeze()
    # A solved page makes some 100,000 short-lived objects, hardly any in cycles: looking for those every 700 of them
    # took an eighth of the time of an edit.
    gc.set_threshold(50_000, 20, 20)
