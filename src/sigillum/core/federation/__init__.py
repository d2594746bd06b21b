"""Identities that come from outside: what a token says, the conditions of a trust, and who may be acted as."""
