"""QEMU as a host: real machines, started from their definitions and spoken to over QMP.

``programs`` finds QEMU, its acceleration and its firmware; ``command`` makes the command line;
``monitor`` speaks QMP; ``agent`` is the guest agent's channel; ``host`` puts them together.
"""
