"""Files that a person goes on with: workspaces, charters, dialects."""
