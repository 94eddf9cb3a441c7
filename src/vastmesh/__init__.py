"""Vast Mesh: live network planning for transmission grids and distribution feeders."""

import os
import tempfile
from pathlib import Path
from typing import Any

from .version import __version__ as __version__

# Compiled kernels are kept beside the code; where that can't be written, in a folder of their own.
if "NUMBA_CACHE_DIR" not in os.environ and not os.access(Path(__file__).parent, os.W_OK):
    os.environ["NUMBA_CACHE_DIR"] = str(Path(tempfile.gettempdir()) / f"vast-mesh-kernels-{os.getuid()}")


def __getattr__(name: str) -> Any:
    """``Draft`` is loaded when it is first asked for, so that importing the package stays quick."""
    if name == "Draft":
        from .script import Draft

        return Draft
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
