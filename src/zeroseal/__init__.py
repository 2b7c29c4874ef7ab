"""Zero Seal: take a machine's identity out of its disk image, and prove that it is gone."""

__version__ = "0.1.0"
