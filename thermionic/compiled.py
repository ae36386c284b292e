"""Functions that are compiled to machine code (numba), and kept compiled on disk.

A compiled function may call those of another file, so what is kept is good only for the sources it was made from:
it lies in a folder named by a digest of all of them, beside the package, or where the user's caches are if that
cannot be written to.
"""

from __future__ import annotations

import fcntl
import hashlib
import os
import shutil
import subprocess
import sys
from collections.abc import Callable
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numba
import numpy as np

from thermionic import clock
from thermionic.lazily import lazily

PACKAGE = Path(__file__).parent
# Every file with a compiled function, those together that call each other.
TOGETHER = (
    (
        "devices/waves.py",
        "devices/programs.py",
        "devices/knees.py",
        "devices/converter_laws.py",
        "devices/junction_laws.py",
        "devices/state_laws.py",
        "devices/tube_laws.py",
        "devices/laws.py",
        "circuit/kernels/assembly.py",
        "circuit/kernels/dense.py",
        "circuit/kernels/convergence.py",
        "circuit/kernels/newton.py",
        "circuit/kernels/variants.py",
        "circuit/kernels/stages.py",
        "circuit/kernels/steps.py",
        "circuit/kernels/balance.py",
    ),
    ("circuit/kernels/order.py", "circuit/kernels/sparse.py", "chassis/kernels.py"),
)
SOURCES = tuple(source for sources in TOGETHER for source in sources)


def _folder() -> Path:
    import llvmlite  # type: ignore[import-untyped]

    digest = hashlib.sha256(f"{sys.version} {llvmlite.__version__}".encode())
    for source in SOURCES:
        digest.update((PACKAGE / source).read_bytes())
    parent = PACKAGE / "__pycache__"
    if not os.access(parent if parent.exists() else PACKAGE, os.W_OK):
        parent = Path(os.environ.get("XDG_CACHE_HOME", Path.home() / ".cache")) / "bold-anode"
    return parent / f"compiled-{digest.hexdigest()[:16]}"


_FOLDER = _folder()
# By its own setting and not by the environment, which numba has read by now where another imported it first: it would
# keep what it compiles beside each source then, and go by that file alone.
numba.config.CACHE_DIR = os.environ.get("NUMBA_CACHE_DIR") or str(_FOLDER)  # type: ignore[attr-defined]


def forget_older() -> None:
    """Remove what was compiled from other sources."""
    for one in _FOLDER.parent.glob("compiled-*"):
        if one != _FOLDER:
            shutil.rmtree(one, ignore_errors=True)


if TYPE_CHECKING:

    def compiled(function: Any) -> Any:
        """The function as machine code, made when another first calls it; see this module."""
        return function

    def inlined(function: Any) -> Any:
        """The function put in the place of each of its calls, where a call would cost more than what it does."""
        return function
else:
    compiled = numba.njit(cache=True, error_model="numpy", nogil=True)
    inlined = numba.njit(cache=True, error_model="numpy", nogil=True, inline="always")


class Ready:
    """A function for certain types of arguments. ``make_ready`` compiles it before any analysis waits for it; its
    machine code takes memory only in a process that calls it."""

    def __init__(self, function: Any, signatures: tuple[Any, ...]) -> None:
        self._function, self._signatures = function, signatures

    @lazily
    def made(self) -> Any:
        """The function as numba made it."""
        with clock.standing():
            return numba.njit(list(self._signatures), cache=True, error_model="numpy", nogil=True)(self._function)

    @property
    def _numba_type_(self) -> Any:
        """What numba goes by where another compiled function calls this one."""
        return self.made._numba_type_

    def __call__(self, *arguments: Any) -> Any:
        return self.made(*arguments)


def ready(*signatures: Any) -> Callable[[Any], Ready]:
    """Like ``compiled``, for these types of arguments; see ``Ready``."""
    return lambda function: Ready(function, signatures)


def make_ready() -> None:
    """Compile whatever is not compiled yet, side by side: half a minute or more after an update, else a moment."""
    command = f"from {__name__} import make_some_ready; make_some_ready(%d)"
    surroundings = {
        **os.environ,
        "PYTHONPATH": os.pathsep.join([str(PACKAGE.parent), os.environ.get("PYTHONPATH", "")]),
    }
    # Each ends by itself, whatever becomes of this one, and holds the lock until then: who comes while another
    # compiles, or what is left of one that was killed, finds it done.
    held = os.open(PACKAGE, os.O_RDONLY)
    try:
        fcntl.flock(held, fcntl.LOCK_EX)
        running = [
            subprocess.Popen([sys.executable, "-c", command % which], env=surroundings, pass_fds=[held])
            for which in range(len(TOGETHER))
        ]
        codes = [one.wait() for one in running]
    finally:
        os.close(held)
    if any(codes):
        raise RuntimeError("The solver could not be compiled; what failed is said above.")


def make_some_ready(which: int) -> None:
    """Compile those of ``TOGETHER`` that ``which`` says, in this process."""
    for source in TOGETHER[which]:
        module = import_module(f"{PACKAGE.name}.{source.removesuffix('.py').replace('/', '.')}")
        for var in vars(module).values():
            if isinstance(var, Ready):
                _ = var.made


def takes(kind: Any, dimensions: int) -> Any:
    """The type of an array in C order that is only read."""
    return numba.types.Array(kind, dimensions, "C", readonly=True)


def gives(kind: Any, dimensions: int) -> Any:
    """The type of an array in C order that is written to."""
    return numba.types.Array(kind, dimensions, "C")


def together(kind: type[Any], *types: Any) -> Any:
    """The type of a NamedTuple of arguments. Its arrays have to be of exactly these types: ``gives``, though they may
    only be read."""
    return numba.types.BaseTuple.from_types(types, kind)  # type: ignore[no-untyped-call]


def bundle(kind: type[Any], *arrays: Any) -> Any:
    """A NamedTuple of arrays as compiled code has them: in C order, and writable."""
    return kind(*(np.require(array, requirements=("C", "W")) for array in arrays))


REAL, COMPLEX, WHOLE, TRUTH = numba.float64, numba.complex128, numba.int64, numba.boolean
