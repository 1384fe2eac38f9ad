"""A control that is stopped when a test says so."""

from fascis.files.control import Control


class StopsWhen(Control):
    """``when`` is asked as often as the work asks."""

    def __init__(self, when=lambda: True):
        super().__init__()
        self._when = when

    @property
    def stopped(self):
        return self._when()
