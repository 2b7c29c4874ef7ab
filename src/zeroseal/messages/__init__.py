"""Every message that a user reads: one module for each part of the program, one constant each.

A module of the program imports its own as ``messages`` and fills in the values::

    raise DamagedError(messages.FOLDER_CONTAINS_ITSELF.format(node=node))

Placeholders are named, so that an editor sees what is inserted where. Texts that only lay out a
result (headings, tables, next steps) stay with the renderers in ``cli/show_*.py``, help texts with
the parsers in ``cli/cmd_*.py``, and the reasons of traces in ``traces/catalogue``.
"""
