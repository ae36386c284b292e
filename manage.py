#!/usr/bin/env python3
"""Django's command line, with the environment that ./start has prepared."""

import os
import sys

from django.core.management import execute_from_command_line

if __name__ == "__main__":
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "bold_anode.settings")
    execute_from_command_line(sys.argv)
