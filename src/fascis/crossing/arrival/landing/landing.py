"""What every way of landing gives."""

from __future__ import annotations

from abc import ABC, abstractmethod


class Landing(ABC):
    """One library on its way to its new place, on an opened destination.

    Everything is staged on the same drive first. Each step may be called again after any
    interruption, and nothing half-arrived is ever taken for a library.
    """

    @property
    @abstractmethod
    def has_records(self) -> bool:
        """True when it has records of its own: identity, manifest, inventory, receipts."""

    @property
    @abstractmethod
    def staged(self) -> bytes:
        """The place of what is staged, relative to the destination's folder."""

    @property
    @abstractmethod
    def final(self) -> bytes:
        """The place that it gets, likewise."""

    @abstractmethod
    def is_begun(self) -> bool:
        """True when there is a staging folder with this crossing's token."""

    @abstractmethod
    def begin(self) -> None:
        """Makes the staging folder with the token, and the plan a second time.

        Or proves the one that is there.

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
        """True when it is on its way from the staging folder to its place."""

    @abstractmethod
    def has_landed(self) -> bool:
        """True when it stands at its place, or is on its way there.

        Raises:
            DriveGone: the drive does not answer: then nothing is known of it.
        """

    @abstractmethod
    def arrive(self) -> None:
        """Brings what is staged to its place, durably. Raises ``OSError``.

        Raises:
            Refused: the place was taken meanwhile; what stands there is not touched.
        """

    @abstractmethod
    def withdraw(self) -> None:
        """Takes an arrival back into the staging folder.

        After an unclean end its files are doubtful, and are read again there. What a person put or
        changed in it meanwhile is set apart first, and never taken for a bad copy.

        Raises:
            EnvironmentTrouble: the destination failed.
        """

    @abstractmethod
    def clear(self) -> None:
        """Removes what is left of the staging folder. Raises ``OSError``.

        What in it is this crossing's goes, the rest is set apart.

        Raises:
            Refused: the token is not this crossing's, or something else is mounted in it.
        """
