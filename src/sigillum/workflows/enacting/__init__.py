"""Comparing a charter with its tenants, and carrying out what follows."""
