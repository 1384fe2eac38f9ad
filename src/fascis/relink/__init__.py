"""Lost references.

An index of found files, ties and the evidence for them, folder moves, applying them and taking it
back.
"""
