"""Inputs that may come from anybody, mutated: each ends in an answer or in a sentence, soon, and never in anything else."""
