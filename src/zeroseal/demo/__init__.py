"""The demo: a ticket gate's disk is surveyed, sealed, checked, and its seal broken on purpose."""
