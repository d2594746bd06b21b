"""Access tokens and assertions: reading, getting, using and ending them, and giving them to programs."""
