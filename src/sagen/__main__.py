"""`python -m sagen` is the same as `sagen`."""

import sys

from sagen.cli import main

sys.exit(main())
