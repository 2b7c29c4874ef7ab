"""From a disk to its volumes: partition tables, and what lies in each partition."""
