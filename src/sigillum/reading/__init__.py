"""Checked YAML for every file that a person writes, and knows none of them: bounds, positions, near misses, all mistakes."""

from sigillum.core.values.errors import FileError, Mistake
from sigillum.core.values.text import did_you_mean

__all__ = ["FileError", "Mistake", "did_you_mean"]
