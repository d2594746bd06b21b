"""Local key material: make, read, check, keep. Private halves never leave this package unsealed."""
