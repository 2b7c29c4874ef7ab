"""File trees that lie on no disk of ours: a folder of the host, a tar archive."""
