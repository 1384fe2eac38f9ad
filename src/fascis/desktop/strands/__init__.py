"""The view Strands: the files to which a library refers, and where they lie."""
