"""Thermionic: the computation core of Bold Anode.

Data flows one way: values, devices, tubes, circuit, design, blocks, findings, powerup.
Each layer imports only from the ones before it. Nothing here knows of HTTP, HTML or a database.
"""

import os

# The matrices are small: more threads than one make them slower. A caller's own choice, or a numpy that is there
# already, stands.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
