"""Running a printed netlist, as it is, in an independent general-purpose circuit simulator."""

import shutil
import subprocess

import numpy as np
import pytest

needed = pytest.mark.skipif(
    shutil.which("ngspice") is None, reason="the circuit simulator (Debian's ngspice) is not on this machine"
)


def run(text, folder, tame=True):
    """Run the netlist in batch. Returns its plots in order: (kind, variable names, data (points, variables)).

    ``tame`` is for what we print, which never makes the simulator warn.
    """
    (folder / "circuit.cir").write_text(text)
    done = subprocess.run(
        ["ngspice", "-b", "-r", "out.raw", "circuit.cir"], cwd=folder, capture_output=True, text=True, timeout=300
    )
    assert (folder / "out.raw").exists(), done.stdout + done.stderr
    assert not tame or "out of range" not in done.stdout + done.stderr
    return list(_plots((folder / "out.raw").read_bytes()))


def _plots(raw):
    while raw:
        head, raw = raw.split(b"Binary:\n", 1)
        fields = dict(line.split(": ", 1) for line in head.decode().splitlines() if ": " in line)
        names = [line.split()[1] for line in head.decode().split("Variables:\n")[1].splitlines() if line.strip()]
        kind = np.complex128 if "complex" in fields["Flags"] else np.float64
        count = int(fields["No. Points"])
        size = count * len(names) * np.dtype(kind).itemsize
        yield fields["Plotname"], names, np.frombuffer(raw[:size], dtype=kind).reshape(count, len(names))
        raw = raw[size:]


def harmonics(time, wave, hertz, count):
    """Amplitudes of the first harmonics of a sampled wave, by least squares: (count,)."""
    phase = 2 * np.pi * hertz * np.outer(time, np.arange(1, count + 6))
    basis = np.hstack([np.ones((len(time), 1)), np.cos(phase), np.sin(phase)])
    # Trapezoidal weights: the simulator's own steps are uneven.
    weight = np.sqrt(np.gradient(time))[:, None]
    fitted = np.linalg.lstsq(basis * weight, wave * weight[:, 0], rcond=None)[0]
    return np.hypot(fitted[1 : count + 1], fitted[count + 6 : 2 * count + 6])
