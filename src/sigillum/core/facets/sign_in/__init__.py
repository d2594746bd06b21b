"""The facet *sign-in*."""
