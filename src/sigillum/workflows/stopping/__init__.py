"""Suspending, reinstating and retiring identities, and what is due."""
