"""Learning where documents of unknown make keep their paths, and remembering what was confirmed.

A document is looked through in a child process, with limits of time and memory: :mod:`.asking`
begins one and listens to it, :mod:`.child` is what runs there, :mod:`.looking` what it does;
:mod:`.learnt` is what comes out, :mod:`.agreed` for which libraries somebody said yes.
"""
