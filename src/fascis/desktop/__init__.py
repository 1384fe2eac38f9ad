"""The window.

The only room that imports Qt; it shows what the core returns, and passes decisions on.
"""
