"""The facet *trust*."""
