"""The crossing's memory: the only room with SQL for it."""
