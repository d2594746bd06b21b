"""What was begun and not finished: stage machines, one module each."""
