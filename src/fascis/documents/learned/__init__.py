"""Documents of unknown make: where they keep their paths is learnt from the document in hand.

Nothing here knows a format by name: what counts is what the document holds, and which files exist.
"""
