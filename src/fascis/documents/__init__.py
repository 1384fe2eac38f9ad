"""Documents: everything that refers to media, one module a kind, one line a kind in the registry.

Nobody outside knows that a document is text, a database, a link or a sidecar.
"""
