"""argparse only: parse, call one workflow, show its result."""
