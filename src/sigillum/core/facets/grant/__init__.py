"""The facet *grant*."""
