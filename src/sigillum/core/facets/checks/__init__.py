"""What can be said against a section of a charter without a tenant, a module a facet."""
