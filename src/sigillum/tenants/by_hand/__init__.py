"""The driver for tenants without an interface that we speak: facts from files, changes confirmed by people."""
