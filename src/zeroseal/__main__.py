"""Runs the command line as ``python -m zeroseal``."""

from zeroseal.cli.main import entry_point

if __name__ == "__main__":
    entry_point()
