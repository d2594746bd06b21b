"""The files an administrator writes, as values; every mistake at once, each with its position."""
