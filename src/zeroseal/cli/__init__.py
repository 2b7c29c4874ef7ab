"""The command line: argv in, exit status out. Nothing here decides anything about disks."""
