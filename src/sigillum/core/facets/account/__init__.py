"""The facet *account*."""
