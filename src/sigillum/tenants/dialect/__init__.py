"""The driver `dialect`: tenants whose own HTTP interface a file describes (docs/dialects.md)."""
