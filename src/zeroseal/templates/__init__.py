"""Sealed images on the shelf, and the machines made from them."""
