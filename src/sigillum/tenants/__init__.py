"""The port `Tenant` and its drivers. Third parties add drivers by the entry-point group `sigillum.tenants`."""
