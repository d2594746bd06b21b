"""What is written down: the chain, the history that it amounts to, steps and requests."""
