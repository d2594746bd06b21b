"""Renewing credentials, and what to look at when one was exposed."""
