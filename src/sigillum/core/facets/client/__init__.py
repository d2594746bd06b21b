"""The facet *client*."""
