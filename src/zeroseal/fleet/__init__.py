"""Many images at once: on this computer's processors, or on an existing Dask cluster.

Each image is one task: a command line of this same program, whose answer is JSON. ``task`` says
what a task is, ``programs`` runs one on this computer, ``local`` and ``cluster`` run many;
``answer`` is what came of one, ``state`` remembers answers on images that have not changed since.
"""
