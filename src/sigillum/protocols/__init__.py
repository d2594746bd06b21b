"""Clients of open standards. They know nothing of charters."""
