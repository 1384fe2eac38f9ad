"""Searching for libraries, and for large folders and files: on a drive, in a home, in any folder.

:mod:`.walking` visits every folder once, and stores it (:mod:`.remembered`); :mod:`.finding`
decides which of them are libraries; :mod:`.look` combines both. Nothing is written there.
"""
