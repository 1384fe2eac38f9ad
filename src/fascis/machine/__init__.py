"""The machine and the person before it.

Kept from sleeping while a crossing runs, told when one ends or needs somebody.
"""
