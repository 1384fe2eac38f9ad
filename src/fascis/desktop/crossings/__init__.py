"""The view Crossings: running, waiting and arrived crossings, and the steps afterwards."""
