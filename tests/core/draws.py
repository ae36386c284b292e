"""Circuits drawn at random as arrays of variants, for tests and benches of what solves them."""

from dataclasses import replace

import numpy as np

from thermionic.devices.scatter import Of, TubeSpread, deviations, scattered


def drawn(netlist, count, seed):
    """The netlist with every device drawn ``count`` times by its usual tolerance."""
    random, spread = np.random.default_rng(seed), TubeSpread()

    def vary(device):
        factors = spread.factors(*random.standard_normal((2, count)))
        try:
            quantities = deviations(device)
        except TypeError:  # ideal sources and the like, which no design has
            return device
        for deviation in quantities:
            if deviation.of in (Of.PART, Of.TURNS):
                factors[deviation.of] = np.exp(deviation.tolerance / 3 * random.standard_normal(count))
        return scattered(device, factors)

    return replace(netlist, parts=tuple(replace(part, device=vary(part.device)) for part in netlist.parts))
