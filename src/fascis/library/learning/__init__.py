"""Learning where documents of unknown make keep their paths, and storing confirmations.

A child process examines a document, with limits of time and memory: :mod:`.asking` starts it and
reads its results, :mod:`.child` runs there, :mod:`.looking` does the work, :mod:`.learnt` is the
result, :mod:`.agreed` stores for which libraries it was confirmed.
"""
