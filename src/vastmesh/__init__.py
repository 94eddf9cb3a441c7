"""Vast Mesh: live network planning for transmission grids and distribution feeders."""

import ctypes
import os
import tempfile
from pathlib import Path
from typing import Any

from .version import __version__ as __version__

# Compiled kernels are kept beside the code; where that can't be written, in a folder of their own.
if "NUMBA_CACHE_DIR" not in os.environ and not os.access(Path(__file__).parent, os.W_OK):
    os.environ["NUMBA_CACHE_DIR"] = str(Path(tempfile.gettempdir()) / f"vast-mesh-kernels-{os.getuid()}")


def _keep_freed_memory() -> None:
    """Let the C library keep what is freed, up to some hundred megabytes.

    Otherwise the arrays of every solution go back to the system and come again page by page: a fifth of a load flow of 10,000
    buses. Numbers of the options: glibc's malloc.h; other C libraries are left as they are.
    """
    try:
        set_option = ctypes.CDLL(None).mallopt
    except (OSError, AttributeError, TypeError):
        return
    trim_above, map_above, further = -1, -3, -2
    for option, size in ((trim_above, 256 << 20), (map_above, 32 << 20), (further, 16 << 20)):
        set_option(option, size)


if not any(name.startswith("MALLOC_") for name in os.environ):
    _keep_freed_memory()


def __getattr__(name: str) -> Any:
    """``Draft`` is loaded when it is first asked for, so that importing the package stays quick."""
    if name == "Draft":
        from .script import Draft

        return Draft
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
