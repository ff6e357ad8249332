"""``python -m keen_horizon.cli``: the launcher hands over to this."""

import sys

from . import main

sys.exit(main())
