"""zstd of the standard library, which has it from Python 3.14 on; before that, the same from a package of its own."""

from __future__ import annotations

import sys

if sys.version_info >= (3, 14):
    from compression import zstd
else:
    from backports import zstd

__all__ = ["zstd"]
