"""Results as text or JSON. Pure: nothing here prints."""
