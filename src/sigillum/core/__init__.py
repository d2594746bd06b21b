"""Pure rules and values. No I/O, no clock, no printing, no HTTP: time, facts and signers come in as arguments."""
