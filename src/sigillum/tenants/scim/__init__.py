"""The driver for tenants that speak open standards (docs/tenant-protocol.md): SCIM, with one codec a kind, OAuth, AuthZEN."""
