"""The bottom room: walking, digests, manifests, atomic and durable writes, names.

Knows nothing of libraries.
"""
