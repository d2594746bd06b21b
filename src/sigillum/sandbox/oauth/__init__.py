"""The authorization server: tokens, clients, exchange, signing."""
