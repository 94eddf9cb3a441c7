"""The live service: translates between HTTP and the core; computes nothing itself."""

from ._app import make_app

__all__ = ["make_app"]
