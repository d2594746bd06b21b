"""Sigillum: charters for machine identities. Nothing is imported here, so that every command starts fast."""

__version__ = "0.1.0"
