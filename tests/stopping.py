"""A control that is stopped by a test."""

from fascis.files.control import Control


class StopsWhen(Control):
    """``when`` is called as often as the work checks."""

    def __init__(self, when=lambda: True):
        super().__init__()
        self._when = when

    @property
    def stopped(self):
        return self._when()
