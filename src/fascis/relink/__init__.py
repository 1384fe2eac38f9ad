"""Lost references.

An index of found files, ties with their evidence, folder moves, applying and undoing.
"""
