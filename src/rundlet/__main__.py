"""``python -m rundlet`` is the same as the ``rundlet`` command."""

import sys

from rundlet.cli.main import main

sys.exit(main())
