"""The place Crossings: what runs, waits and arrived, and the steps after that."""
