"""A Linux guest: its accounts, services, packages, network and first start, as files."""
