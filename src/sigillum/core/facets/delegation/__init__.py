"""The facet *delegation*."""
