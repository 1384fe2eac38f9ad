"""The command line: one module for each command.

Messages and progress go to standard error, results to standard output.
"""
