"""The facet *workload*."""
