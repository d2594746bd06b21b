"""The facet *permission*."""
