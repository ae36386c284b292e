"""The document's models: a design is a graph of blocks, the envelopes that they use, and the brief."""

from __future__ import annotations

from dataclasses import MISSING, fields
from typing import Annotated, Any, Literal

from pydantic import Field, SerializeAsAny, ValidatorFunctionWrapHandler, WrapValidator, model_validator
from pydantic_core import PydanticCustomError

from thermionic.blocks import KINDS, Block
from thermionic.blocks.fields import Decibels, Hertz, Measured, Metres, Model, Volts, Watts, named
from thermionic.devices import TriodeCoefficients
from thermionic.tubes import Limits, TubeType, Unit, get
from thermionic.values import Quantity

VERSION = 2
Name = Annotated[str, Field(min_length=1, max_length=120)]
TUBE_NAME, MOST_TUBE_NAME = r"^[A-Za-z0-9][A-Za-z0-9 ./-]*$", 40
TubeName = Annotated[str, Field(pattern=TUBE_NAME, max_length=MOST_TUBE_NAME)]
EnvelopeId = Annotated[str, Field(pattern=r"^[a-z][a-z0-9]*$", max_length=12)]
_CAPACITANCES = ("grid_anode_f", "grid_cathode_f", "anode_cathode_f")
_OWN_CATHODE_A = 0.1  # not measured: far above what the anode's rating lets it carry


class Brief(Model):
    """What the amplifier is for.

    ``loudspeaker_db`` is the loudspeaker's sound pressure level at 1 m for 1 W, ``listening_db`` the peak level
    wanted at the listener's distance, dB re 20 uPa; ``mains_volt`` the house voltage, rms, ``mains_low_volt`` and
    ``mains_high_volt`` the lowest and highest that were read there, None where nobody has.
    """

    loudspeaker_db: Decibels = named("Sensitivity, 1 W at 1 m", 90.0)
    listening_metre: Metres = named("Distance", 2.5)
    listening_db: Decibels = named("Peak level wanted there", 95.0)
    mains_volt: Volts = named("Mains at the wall", 230.0)
    mains_low_volt: Annotated[float, Measured(Quantity.VOLTAGE)] | None = named("Lowest that was read", None)
    mains_high_volt: Annotated[float, Measured(Quantity.VOLTAGE)] | None = named("Highest that was read", None)
    mains_hertz: Annotated[Hertz, Field(ge=16.0, le=400.0)] = named("Mains frequency", 50.0)

    @model_validator(mode="after")
    def _in_order(self) -> Brief:
        low, high = self.mains_low_volt, self.mains_high_volt
        if (low is not None and not 0 < low <= self.mains_volt) or (high is not None and high < self.mains_volt):
            raise ValueError(
                f"The mains at the wall, {self.mains_volt:g} V, is not between the lowest and the highest read."
            )
        return self


class Envelope(Model):
    """A bottle in its socket. In a stereo design there is one a channel, unless it is ``split`` between the
    channels and has sections enough: then each section that a channel uses has its twin in the same bottle."""

    id: EnvelopeId
    type: Annotated[str, Field(min_length=1, max_length=40)] = named("Tube")
    split: Literal["stages", "channels"] = named("Sections shared between", "stages")


class OwnTriode(Model):
    """A triode type of the builder's own, fitted to points that they measured; it travels with the design.

    The coefficients are those of thermionic.devices.TriodeCoefficients. ``points`` is how many it was fitted to and
    ``rms_error`` the root mean square of their errors in anode current, as a fraction.
    """

    name: TubeName
    coefficients: dict[str, float]
    anode_volt: Volts
    anode_watt: Watts
    points: Annotated[int, Field(ge=1, le=100_000)] = 1
    rms_error: Annotated[float, Field(ge=0.0, le=100.0)] = 0.0

    @model_validator(mode="after")
    def _usable(self) -> OwnTriode:
        known = {entry.name: entry.default for entry in fields(TriodeCoefficients)}
        if set(self.coefficients) - set(known) or any(
            default is MISSING and name not in self.coefficients for name, default in known.items()
        ):
            raise ValueError(f"{self.name} needs the coefficients {', '.join(sorted(known))}.")
        if not all(1e-12 < value < 1e12 for name, value in self.coefficients.items() if name != "coarse_share"):
            raise ValueError(f"A coefficient of {self.name} is out of all reason.")
        if not 0.0 <= self.coefficients.get("coarse_share", 0.0) < 1.0:
            raise ValueError(f"The coarse share of {self.name} must be from 0 to 1.")
        return self

    @property
    def type(self) -> TubeType:
        """It as the library has its types. Its capacitances are not measured and taken as a small triode's."""
        limits = Limits(self.anode_volt, self.anode_watt, _OWN_CATHODE_A, 0.5e6, 1e6, 90.0, system="as given",
                        unsure=("cathode_a", "grid_leak_fixed_bias_ohm", "grid_leak_cathode_bias_ohm"))  # fmt: skip
        unit = Unit("triode", "triode", 1, TriodeCoefficients(**self.coefficients), limits,
                    capacitances=dict.fromkeys(_CAPACITANCES, 2e-12))  # fmt: skip
        return TubeType(self.name, (), "of your own, as measured", "", {}, None, None, (unit,))


def _by_kind(raw: Any, _: ValidatorFunctionWrapHandler) -> Block:
    """A block read as what its kind says it is."""
    if isinstance(raw, Block):
        return raw
    if not isinstance(raw, dict):
        raise PydanticCustomError("block_type", "a block is an object with an id and a kind.")
    kind = raw.get("kind")
    cls = KINDS.get(kind) if isinstance(kind, str) else None
    if cls is None:
        raise PydanticCustomError(
            "block_kind", "a block's kind is one of {kinds}.", {"kinds": ", ".join(sorted(KINDS))}
        )
    return cls.model_validate(raw)


AnyBlock = Annotated[SerializeAsAny[Block], WrapValidator(_by_kind)]


class Design(Model):
    """One amplifier. ``channels`` identical channels share what is shared."""

    format: Literal["bold-anode-design"] = "bold-anode-design"
    version: Literal[2] = 2
    name: Name
    notes: Annotated[str, Field(max_length=4000)] = ""
    channels: Annotated[int, Field(ge=1, le=2)] = 1
    brief: Brief = Brief()
    envelopes: Annotated[tuple[Envelope, ...], Field(max_length=40)] = ()
    blocks: Annotated[tuple[AnyBlock, ...], Field(min_length=2, max_length=60)]
    own_tubes: Annotated[tuple[OwnTriode, ...], Field(max_length=24)] = ()

    def tube_type(self, name: str) -> TubeType:
        """A type by name: one of the design's own, else the library's. Raises UnknownTube."""
        for own in self.own_tubes:
            if own.name.upper() == name.strip().upper():
                return own.type
        return get(name)

    def envelope(self, envelope_id: str) -> Envelope:
        """The envelope of that id. Raises KeyError."""
        for envelope in self.envelopes:
            if envelope.id == envelope_id:
                return envelope
        raise KeyError(envelope_id)

    def tube_of(self, envelope_id: str) -> TubeType:
        """The type of an envelope. Raises KeyError, UnknownTube."""
        return self.tube_type(self.envelope(envelope_id).type)

    def block(self, block_id: str) -> Block:
        """The block of that id. Raises KeyError."""
        for block in self.blocks:
            if block.id == block_id:
                return block
        raise KeyError(block_id)

    def serves_all(self, envelope_id: str) -> bool:
        """Whether one bottle of an envelope serves all channels: it is split between them, or in what they share."""
        if self.channels == 1 or self.envelope(envelope_id).split == "channels":
            return True
        return any(
            block.scope == "shared" and any(section.partition(".")[0] == envelope_id for section in block.sections)
            for block in self.blocks
        )

    def on_mains(self, volt: float) -> Design:
        """The same in a house with ``volt`` at the wall, V rms."""
        brief = self.brief.model_copy(update={"mains_volt": volt, "mains_low_volt": None, "mains_high_volt": None})
        return self.model_copy(update={"brief": brief})

    @property
    def mains(self) -> tuple[float, float]:
        """The house's mains, V rms and Hz."""
        return self.brief.mains_volt, self.brief.mains_hertz
