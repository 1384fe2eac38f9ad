"""What is copied: the survey, a part, choices, gathered files, and what others need."""
