"""Simulated tenants, served on loopback from one world file.

The other party: this package shares no code with the rest of Sigillum, so that their agreement is evidence.
"""
