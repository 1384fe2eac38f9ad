"""What a library refers to: documents read, references followed, what that makes of its files."""
