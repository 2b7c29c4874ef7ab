"""Schemas of what we print and of the files that we write."""
