"""What a reader in a process of its own may do, well or badly; nothing here needs the application."""

import os
import time


def spin(seconds):
    until = time.process_time() + seconds
    while time.process_time() < until:
        pass
    return os.getpid()


def fill(megabytes):
    return len(bytearray(megabytes * 2**20))


def fail(kind):
    raise kind("That was refused.")
