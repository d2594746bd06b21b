"""Deciding from what is known: worlds, verdicts, explanations, mends, shadows, waiting, sign-in rules."""
