"""What every kind of landing provides."""

from __future__ import annotations

from abc import ABC, abstractmethod


class Landing(ABC):
    """One library on its way to its new path, on an opened destination.

    Everything is first staged on the same drive. Each step can be called again after any
    interruption, and something half-arrived never looks like a library.
    """

    @property
    @abstractmethod
    def has_records(self) -> bool:
        """True if it has its own records: identity, manifest, inventory, receipts."""

    @property
    @abstractmethod
    def staged(self) -> bytes:
        """The path of the staged library, relative to the destination's folder."""

    @property
    @abstractmethod
    def final(self) -> bytes:
        """The final path, likewise."""

    @abstractmethod
    def is_begun(self) -> bool:
        """True if there is a staging folder with this crossing's token."""

    @abstractmethod
    def begin(self) -> None:
        """Makes the staging folder with the token, and a second copy of the plan.

        Or proves the existing one.

        Raises:
            Refused: it is another crossing's.
            EnvironmentTrouble: the drive failed.
        """

    @abstractmethod
    def prove(self) -> None:
        """Proves that the staging folder is this crossing's.

        Raises:
            Refused: it is not.
        """

    @abstractmethod
    def is_arriving(self) -> bool:
        """True while it is moved from the staging folder to its path."""

    @abstractmethod
    def has_landed(self) -> bool:
        """True if it is at its path, or on its way there.

        Raises:
            DriveGone: the drive does not answer: then nothing is known of it.
        """

    @abstractmethod
    def arrive(self) -> None:
        """Moves staged files to their paths, durably. Raises ``OSError``.

        Raises:
            Refused: the place was taken meanwhile; what stands there is not touched.
        """

    @abstractmethod
    def withdraw(self) -> None:
        """Moves an arrival back into the staging folder.

        After an unclean end its files are doubtful, and are read again there. Files that a person
        added or changed meanwhile are set apart first, and never treated as bad copies.

        Raises:
            EnvironmentTrouble: the destination failed.
        """

    @abstractmethod
    def clear(self) -> None:
        """Removes the staging folder. Raises ``OSError``.

        Files of this crossing are deleted, all others are set apart.

        Raises:
            Refused: the token is not this crossing's, or something else is mounted in it.
        """
