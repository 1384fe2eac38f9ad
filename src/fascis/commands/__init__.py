"""The command line: one module a command.

Words and bars go to standard error, results to standard output.
"""
