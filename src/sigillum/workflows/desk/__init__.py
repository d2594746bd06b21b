"""The desk: an opened workspace with its tenants, ledger, keeping places and settings, which every other room starts from."""
