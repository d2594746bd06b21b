"""The facet *credential*."""
