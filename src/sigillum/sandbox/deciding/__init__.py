"""What may be done and who may sign in: the sandbox's own answer."""
