"""Imported before anything else: modules are compiled once and kept, as an installed tool's are, whatever the environment says.

Hundreds of tests start the program. `PYTHONPYCACHEPREFIX` says where, if it is set.
"""

from __future__ import annotations

import os
import sys
from pathlib import Path

os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
sys.pycache_prefix = os.environ.setdefault("PYTHONPYCACHEPREFIX", str(Path(__file__).parents[1] / ".pytest_cache" / "bytecode"))
sys.dont_write_bytecode = False
