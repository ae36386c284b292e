"""What every kind of block has, and the registry of kinds."""

from __future__ import annotations

import inspect
from abc import abstractmethod
from enum import Enum
from functools import cache
from typing import TYPE_CHECKING, Any, ClassVar, Literal

from thermionic.blocks.fields import Component, Id, Model, OfEnvelope, named
from thermionic.blocks.ports import Flow, takes_in

if TYPE_CHECKING:
    from collections.abc import Callable

    from thermionic.blocks.build import Bench
    from thermionic.blocks.sketch import Sketch
    from thermionic.tubes import TubeType


class Group(Enum):
    """Where a kind is found when a builder looks for a block to put in."""

    SOURCE = "Sources and inputs"
    CONTROL = "Controls"
    STAGE = "Voltage stages"
    SPLITTER = "Splitters and pairs"
    TRANSFORMER = "Transformers"
    LOAD = "Loads"
    FEEDBACK = "Feedback and extra parts"
    SUPPLY = "Supplies"


class Block(Model):
    """One block of a design. A kind is a subclass in a file of its own under ``kinds``; nothing else names it.

    A kind declares its ``kind`` (a Literal with its name as default), its ``title``, ``about`` (a sentence) and
    ``group``; its parameters and references as fields; its ``ports``; how it compiles; and how it is drawn.
    """

    id: Id
    kind: str
    scope: Literal["channel", "shared"] = named("Belongs to", "channel")

    title: ClassVar[str]
    about: ClassVar[str]
    group: ClassVar[Group]
    # What it is when it is first put in, its references left out; tubes by their type.
    first: ClassVar[dict[str, Any]] = {}
    # The suffix of each port's node; a port not named here has its own name, and "" stands for the id alone.
    suffixes: ClassVar[dict[str, str]] = {}

    @abstractmethod
    def ports(self) -> dict[str, Flow]:
        """What others can take from it: its outputs, and every place that feedback or an extra part may touch."""

    @abstractmethod
    def compile(self, bench: Bench) -> None:
        """Put its parts between its ports' nodes, and say what they are."""

    @abstractmethod
    def sketch(self, pen: Sketch) -> None:
        """Draw it."""

    @property
    def label(self) -> str:
        """Its id as a builder reads it."""
        return self.id.replace("_", " ").capitalize()

    def node(self, port: str, side: str = "") -> str:
        """The node of a port; of a balanced pair's, that of a side."""
        suffix = self.suffixes.get(port, port).replace(".", "_")
        name = f"{self.id}_{suffix}" if suffix else self.id
        return f"{name}_{side}" if side else name

    def complaint(self, takers: list[Block]) -> str:
        """What is amiss with a design in which just ``takers`` take from this block, in a sentence; "" if nothing."""
        return ""

    def unfit(self, tube_of: Callable[[str], TubeType]) -> str:
        """What is amiss with the types in its envelopes, given by ``tube_of`` their ids, in a sentence; "" if
        nothing."""
        return ""

    def sided(self, port: str) -> bool:
        """Whether a port has two nodes, one a side."""
        return self.ports().get(port) is Flow.PAIR

    def knob(self, port: str) -> str:
        """The value of this block that sets the voltage of a port, as a path within it; "" if none does."""
        return ""

    def full_up(self) -> dict[str, float]:
        """The values, by their path within the block, that turn up a control that only takes away; none of another
        block."""
        return {}

    @property
    def in_words(self) -> str:
        """What there is to set of it as a whole, its main value, in a few words; "" if only its parts are set."""
        return ", ".join(section.partition(".")[0].upper() for section in self.sections)

    @property
    def components(self) -> dict[str, Component]:
        """Its parts that are fitted, by their field."""
        values = {name: getattr(self, name) for name in type(self).model_fields}
        return {name: value for name, value in values.items() if isinstance(value, Component)}

    @property
    def references(self) -> dict[str, str]:
        """Every reference that is set: field to ``block.port``."""
        return {name: getattr(self, name) for name in type(self).reference_fields() if getattr(self, name)}

    @classmethod
    def section_fields(cls) -> tuple[str, ...]:
        """The fields that say which sections of envelopes its tube positions have."""
        return _section_fields(cls)

    @classmethod
    def reference_fields(cls) -> dict[str, tuple[Flow, ...]]:
        """The fields that refer to other blocks' ports, with the flows that each takes."""
        return _reference_fields(cls)

    @property
    def sections(self) -> tuple[str, ...]:
        """Every section of an envelope that it uses."""
        result: list[str] = []
        for name in type(self).section_fields():
            result += getattr(self, name) or ()
        return tuple(result)

    @classmethod
    def __pydantic_init_subclass__(cls, **kwargs: Any) -> None:
        super().__pydantic_init_subclass__(**kwargs)
        kind = cls.model_fields["kind"].default
        if isinstance(kind, str):
            _register(kind, cls)


@cache
def _reference_fields(cls: type[Block]) -> dict[str, tuple[Flow, ...]]:
    result = {}
    for name, info in cls.model_fields.items():
        marks = takes_in(_all_marks(info))
        if marks is not None:
            result[name] = marks.flows
    return result


@cache
def _section_fields(cls: type[Block]) -> tuple[str, ...]:
    marked = {name: _all_marks(info) for name, info in cls.model_fields.items()}
    return tuple(name for name, marks in marked.items() if any(isinstance(mark, OfEnvelope) for mark in marks))


def _all_marks(info: Any) -> list[Any]:
    """A field's marks, those within an optional annotation too."""
    marks, pending = list(info.metadata), [info.annotation]
    while pending:
        annotation = pending.pop()
        marks += getattr(annotation, "__metadata__", ())
        pending += getattr(annotation, "__args__", ()) or ()
    return marks


KINDS: dict[str, type[Block]] = {}


def _register(kind: str, cls: type[Block]) -> None:
    """Add a kind. Raises TypeError for one that is incomplete or already there."""
    missing = [name for name in ("title", "about", "group") if not hasattr(cls, name)]
    missing += [name for name in ("ports", "compile", "sketch") if getattr(cls, name) is getattr(Block, name)]
    if missing:
        raise TypeError(f"The kind {kind} lacks {', '.join(missing)}.")
    known = KINDS.get(kind)
    if known is not None and inspect.getsourcefile(known) != inspect.getsourcefile(cls):
        raise TypeError(f"Two classes claim the kind {kind}.")
    KINDS[kind] = cls
