"""Inputs that may come from anybody, mutated.

Each ends in an answer or in a sentence, soon, and never in anything else.
"""
