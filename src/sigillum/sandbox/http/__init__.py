"""Answers, faults, and the interfaces that programs work with."""
