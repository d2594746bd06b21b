"""Values that everything is made of: times, text, canonical form, secrets, errors."""
