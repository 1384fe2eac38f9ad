"""The machine and the person using it.

It stays awake while a crossing runs, and a notification is shown when one ends or needs somebody.
"""
