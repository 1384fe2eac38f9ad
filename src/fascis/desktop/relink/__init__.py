"""The view Relink: lost files, and where they were found."""
