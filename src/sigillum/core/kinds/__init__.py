"""What a tenant holds, as values: one module a kind of resource."""
