"""Access beside the charters that always ends: loans, and acting as somebody else."""
