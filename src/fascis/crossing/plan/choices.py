"""What a person chose, and the four parts of a plan that it becomes.

A plan is a scope, a landing, followers, and what comes afterwards.
"""

from __future__ import annotations

from dataclasses import dataclass

from fascis.crossing.model.afterwards import After, Shared, Taken
from fascis.crossing.scope.selection import StrandKey
from fascis.library.roles import Role


@dataclass(frozen=True, slots=True)
class Scope:
    """What goes along.

    Attributes:
        only: projects, or folders, with what they use; none for the whole library.
        rest: what none of these has goes instead.
        leave_out: roles that stay.
        discard: roles that do not go along and are deleted with the originals.
        gather: loose media goes along.
        leave_unused: what nothing uses stays.
        without: strands that stay, as ``(folder, role, standing)``.
        leave_clashing: files that a destination cannot hold as they are named, or as large as they
            are, stay.
    """

    only: frozenset[str] = frozenset()
    leave_out: frozenset[Role] = frozenset()
    discard: frozenset[Role] = frozenset()
    gather: bool = True
    leave_unused: bool = False
    without: frozenset[StrandKey] = frozenset()
    leave_clashing: bool = False
    rest: bool = False

    @property
    def out(self) -> frozenset[Role]:
        """Roles that do not go along."""
        return self.leave_out | self.discard


@dataclass(frozen=True, slots=True)
class Follower:
    """A document that stays and is led to the new place.

    Its absolute path, how it is told, the name of its kind, and how many of its references change.
    """

    path: bytes
    told: str
    format: str
    references: int


@dataclass(frozen=True, slots=True)
class Followers:
    """Documents that stay and are led to the new place.

    ``led`` says whether any are: without it what they use stays.
    """

    led: bool = False
    documents: tuple[Follower, ...] = ()


@dataclass(frozen=True, slots=True)
class Afterwards:
    """What comes after all copies are verified.

    Attributes:
        act: the last act.
        loose_too: with the originals, loose ones go that nothing else uses.
    """

    act: After = After.KEEP
    loose_too: bool = False


@dataclass(frozen=True, slots=True)
class Choices:
    """What the person chose, one by one, as window and command line ask it.

    The name there is "" for the library's own; ``shared`` says what becomes of what documents that
    stay use too, without it what is usual; for all others see :class:`Scope` and
    :class:`Afterwards`.

    ``into`` is True for what lands in a folder that is there. Of what has a name that is taken
    there, ``taken`` says what becomes; None is no decision.
    """

    name: str = ""
    leave_out: frozenset[Role] = frozenset()
    after: After = After.KEEP
    discard: frozenset[Role] = frozenset()
    gather: bool = True
    leave_unused: bool = False
    without: frozenset[StrandKey] = frozenset()
    only: frozenset[str] = frozenset()
    loose_too: bool = False
    leave_clashing: bool = False
    shared: Shared | None = None
    into: bool = False
    taken: Taken | None = None
    rest: bool = False

    @property
    def scope(self) -> Scope:
        """What goes along."""
        return Scope(
            self.only,
            self.leave_out,
            self.discard,
            self.gather,
            self.leave_unused,
            self.without,
            self.leave_clashing,
            self.rest,
        )

    @property
    def afterwards(self) -> Afterwards:
        """What comes after."""
        return Afterwards(self.after, self.loose_too)
