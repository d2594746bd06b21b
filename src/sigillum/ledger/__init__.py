"""Storage of what was done: append-only, hash-chained, signed."""
