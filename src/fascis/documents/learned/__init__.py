"""Documents of unknown make: where they keep their paths is learnt from the document in hand.

No format is known here by name: only the document's content and the existing files count.
"""
