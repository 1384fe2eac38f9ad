"""What goes: the survey, a part, choices, what is gathered, and what others need."""
