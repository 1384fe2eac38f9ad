"""Looking for libraries, and for what is big: on a drive, in a home, in any folder.

:mod:`.walking` sees every folder once, and remembers it (:mod:`.remembered`); :mod:`.finding` tells
which of them are libraries; :mod:`.look` puts both together. Nothing is written where it looks.
"""
