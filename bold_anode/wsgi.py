"""The WSGI entry point that bold_anode.serving serves."""

import gc
import os

from django.core.wsgi import get_wsgi_application

from thermionic import findings
from thermionic.amplifier import solve
from thermionic.examples import example

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "bold_anode.settings")
application = get_wsgi_application()

# What every edit needs, compiled functions and tubes, is loaded before the first one waits for it.
findings.examine(solve(example("lantern")))
# What is loaded by now stays for good: the collector need not go through it again with every change.
gc.collect()
gc.freeze()
# A solved page makes some 100,000 short-lived objects, hardly any in cycles: looking for those every 700 of them took
# an eighth of the time of an edit.
gc.set_threshold(50_000, 20, 20)
