"""Trying what must work and what must not, and judging it."""
