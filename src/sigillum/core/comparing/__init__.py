"""What was seen and the history, against the charter: the outline."""
