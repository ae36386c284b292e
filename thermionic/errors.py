"""Everything the core refuses, as sentences meant to be read by the builder."""


class ThermionicError(Exception):
    """Base of every refusal; ``str()`` is a sentence saying what is wrong, where, and what would do."""


class ValueRefused(ThermionicError, ValueError):
    """A typed component value that cannot be read, or that no real part could have."""


class UnknownTube(ThermionicError):
    """A tube type that is not in the library."""


class DesignRefused(ThermionicError):
    """A design document that is malformed or contradicts itself."""


class NetlistRefused(ThermionicError):
    """A netlist that is not a circuit: a part twice, a node left in the air."""


class NoSolution(ThermionicError):
    """The equations have no solution that the solver could find.

    ``tried`` names the methods used and ``where`` the node that would not settle.
    """

    def __init__(self, message: str, *, tried: tuple[str, ...] = (), where: str = "") -> None:
        super().__init__(message)
        self.tried = tried
        self.where = where


class NoSteadyState(NoSolution):
    """A periodic steady state was not found at some drive levels: ``failed`` are their places, the lowest first."""

    def __init__(self, message: str, failed: tuple[int, ...]) -> None:
        super().__init__(message, tried=("harmonic balance",))
        self.failed = failed


class BudgetSpent(NoSolution):
    """An analysis was stopped at the limit of time it was given."""


class Unbalanced(ThermionicError):
    """Currents that must add up to nothing do not: what rests on them is not shown."""


class TextRefused(ThermionicError):
    """A text with characters in it that are none."""


class FitRefused(ThermionicError):
    """Points that cannot be read, or cannot determine the model that was to be fitted to them."""
