"""The version, alone, so that anything may import it."""

__version__ = "0.1.0"
