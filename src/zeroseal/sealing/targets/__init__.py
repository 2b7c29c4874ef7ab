"""Where the result of a seal goes: a new file, the image itself, a tree, nowhere (a rehearsal)."""
