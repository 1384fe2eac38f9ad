"""Formats that refer to media: empty until the slice that reads them.

Its place in the house is kept.
"""
