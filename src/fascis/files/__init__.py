"""The lowest room: walking, digests, manifests, atomic and durable writes, names.

Independent of libraries.
"""
