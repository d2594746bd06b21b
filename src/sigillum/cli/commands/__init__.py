"""One file a command, each with `add_parser(subparsers)` and `run(args, context) -> Outcome`."""
