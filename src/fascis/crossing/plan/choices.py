"""A person's choices, and the four parts of a plan made from them.

A plan has a scope, a landing, followers, and what happens afterwards.
"""

from __future__ import annotations

from msgspec import Struct

from fascis.crossing.model.afterwards import After, Shared, Taken
from fascis.crossing.scope.selection import StrandKey
from fascis.library.roles import Role


class Scope(Struct, frozen=True):
    """What is copied.

    Attributes:
        only: projects or folders, with the files they use; empty for the whole library.
        rest: everything else instead.
        leave_out: roles that stay.
        discard: roles that are not copied and are deleted with the originals.
        gather: loose media is copied.
        leave_unused: unused files stay.
        without: strands that stay, as ``(folder, role, standing)``.
        leave_clashing: files whose name or size a destination cannot store stay.
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
        """Roles that are not copied."""
        return self.leave_out | self.discard


class Follower(Struct, frozen=True):
    """A document that stays and is updated to the new place.

    Its absolute path, its name for messages, the name of its kind, and how many references change.
    """

    path: bytes
    told: str
    format: str
    references: int


class Followers(Struct, frozen=True):
    """Documents that stay and are updated to the new place.

    ``led`` is true if any are; otherwise the files they use stay.
    """

    led: bool = False
    documents: tuple[Follower, ...] = ()


class Afterwards(Struct, frozen=True):
    """What happens after all copies are verified.

    Attributes:
        act: the last act.
        loose_too: loose originals that nothing else uses are deleted too.
    """

    act: After = After.KEEP
    loose_too: bool = False


class Choices(Struct, frozen=True):
    """The person's choices, one by one, from window or command line.

    The name there is "" for the library's own. ``shared`` decides about files that documents which
    stay also use; None is the default for the scope. ``into`` is True for an existing folder.
    ``taken`` decides about names that are taken there; None is no decision. For all others see
    :class:`Scope` and :class:`Afterwards`.
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
        """What is copied."""
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
        """What happens afterwards."""
        return Afterwards(self.after, self.loose_too)
