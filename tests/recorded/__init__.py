"""The output of every command before the code was reorganised: it must stay the same."""
