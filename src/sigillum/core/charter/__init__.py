"""What a charter says, as values; house rules, advice, sheets."""
