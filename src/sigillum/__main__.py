"""`python -m sigillum` is the installed program."""

import sys

from sigillum.cli.main import main

sys.exit(main())
