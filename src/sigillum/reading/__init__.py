"""Checked YAML for every file that a person writes, and knows none of them: bounds, positions, near misses, all mistakes."""
