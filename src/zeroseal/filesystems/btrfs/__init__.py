"""btrfs: read here, with every checksum verified; nothing is changed yet."""
