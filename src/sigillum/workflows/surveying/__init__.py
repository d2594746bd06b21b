"""Looking without changing: tenants, identities, keys, links, and why something is allowed."""
