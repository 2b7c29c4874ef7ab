"""The shelf: a folder of sealed templates, ``NAME/VERSION/``, each with record and entry.

``entry`` is what is known of a template; ``index`` the list over all entries, which can be
made anew at any time; ``shelf`` takes templates in and lets them go; ``clone_links`` are the clones
that were made of a template; ``verify``, ``difference`` and ``bundle`` read whole templates.
"""
