"""Documents that are kept with every state that they have been in: seen, changed, undone, redone.

A ``Version`` is the document at one moment and is never changed; a ``Versioned`` row stands at one of its versions.
Each version knows its parent, so that undo goes to the parent and redo to the latest child. What was looked at when a
change was asked for is told by a version's number: a change to what somebody has changed meanwhile is refused.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, ClassVar, Generic, TypeVar

from django.db import models, transaction

from bold_anode.frame.bounds import Checked
from thermionic.errors import ThermionicError

V = TypeVar("V", bound="Version")
Before = TypeVar("Before")
Made = TypeVar("Made")
Result = TypeVar("Result")


class Stale(ThermionicError):
    """The document has moved on since the page that asked for the change was drawn."""


class Version(Checked):
    """A document as it was at one moment. Never changed once made; ``note`` says what its change was.

    A concrete class adds ``parent``, a foreign key to itself, and the foreign key to what it is a version of.
    """

    number = models.PositiveIntegerField()
    document = models.JSONField()
    note = models.CharField(max_length=200)
    made_at = models.DateTimeField(auto_now_add=True)

    # Known of a version that was made a moment ago: it has no children yet.
    is_just_made = False

    class Meta:
        abstract = True

    def save(self, *args: Any, **kwargs: Any) -> None:
        """Store a new version. Raises TypeError for one that is stored already."""
        if not self._state.adding:
            raise TypeError(f"A {self._meta.verbose_name} is never changed; make another.")
        super().save(*args, **kwargs)


class Versioned(Generic[V]):
    """A row that stands at one version of its document.

    A concrete class is a model with ``current``, a nullable foreign key to its versions; it says which ``versions``
    are its own, and what its document is ``called``.
    """

    called: ClassVar[str]
    current: Any

    @property
    def versions(self) -> Any:
        """The manager of all versions of this row's document."""
        raise NotImplementedError

    @property
    def at(self) -> V:
        """The version that it stands at. A row without any is only there while it is made or deleted."""
        assert self.current is not None
        version: V = self.current
        return version

    def can_undo(self) -> bool:
        """Whether there is a version to go back to."""
        return self.current is not None and self.current.parent_id is not None

    def can_redo(self) -> bool:
        """Whether there is a version to go forward to."""
        return not self.at.is_just_made and self._children().exists()

    def next_version(self) -> V | None:
        """The version that redo would go to: the latest made from the current one."""
        return self._children().order_by("-number").first()

    def _children(self) -> models.QuerySet[V]:
        children: models.QuerySet[V] = self.versions.filter(parent=self.current)
        return children

    def must_be_at(self, seen: int | None) -> None:
        """Raise Stale if another version was looked at; see ``must_be``."""
        must_be(self.at.number, seen, self.called)

    def add(self, document: Any, note: str, **more: Any) -> V:
        """A new version, made from the current one; the row is not moved to it."""
        last = self.versions.order_by("-number").values_list("number", flat=True).first() or 0
        version: V = self.versions.create(
            number=last + 1, parent=self.current, document=document, note=note[:200], **more
        )
        version.is_just_made = True
        return version

    def move_to(self, version: V) -> None:
        """Stand at another version."""
        self.current = version
        self.save()  # type: ignore[attr-defined]

    def undo(self, seen: int | None = None) -> None:
        """Go back to the version that the current one was made from; stays put at the first. Raises Stale."""
        self.must_be_at(seen)
        if self.can_undo():
            self.move_to(self.at.parent)  # type: ignore[attr-defined]

    def redo(self, seen: int | None = None) -> None:
        """Go forward to the latest version made from the current one; stays put if there is none. Raises Stale."""
        self.must_be_at(seen)
        following = self.next_version()
        if following is not None:
            self.move_to(following)


def must_be(number: int, seen: int | None, called: str) -> None:
    """Raise Stale if another version than that of this number was looked at; ``seen`` is None where nothing was."""
    if seen is not None and seen != number:
        raise Stale(
            f"The {called} was changed in another window. Here it is as it stands now; nothing was overwritten."
        )


def change(
    look: Callable[[], Before], make: Callable[[Before], Any], keep: Callable[[Before, Any], Result | None]
) -> Result:
    """Change a document without locking it while the change is computed.

    ``look`` reads what there is, ``make`` computes the change of that, ``keep`` locks, looks whether it is still so
    and stores it, within a transaction. Where ``keep`` returns None, somebody was faster, and all is done again.
    Whatever the three raise ends it with nothing stored.
    """
    while True:
        before = look()
        made = make(before)
        with transaction.atomic():
            kept = keep(before, made)
        if kept is not None:
            return kept
