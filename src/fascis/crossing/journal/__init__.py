"""The crossing's memory: the only room with SQL on it."""
