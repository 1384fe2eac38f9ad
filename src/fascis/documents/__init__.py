"""Documents: everything that refers to media.

Each kind is one module and one line in the registry. Other code does not know whether a document is
text, a database, a link or a sidecar.
"""
