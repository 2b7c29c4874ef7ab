"""The catalogue of traces: what makes a machine itself, as data, and the finders it needs.

The data lies in ``catalogue/FAMILY.toml``; ``model.py`` says what an entry may hold.
"""
