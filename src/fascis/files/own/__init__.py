"""Fascis's own files of state: private, safely replaced, and told of when they are damaged."""
