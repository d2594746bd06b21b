"""World files, the clock, and the state of a house."""
