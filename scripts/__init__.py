"""Scripts that make what is committed: base disks, pictures, documents."""
