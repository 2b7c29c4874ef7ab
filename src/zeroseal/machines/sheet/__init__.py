"""The build sheet: TOML that says what a reference machine is, and how it comes to be.

``model`` declares every key, ``load`` reads a sheet with what it includes and overrides, ``lines``
finds the line of a key for an error, ``secret_values`` puts in what must not stand in a sheet.
"""
