"""OVA and OVF packages, versions 1 and 2 of the envelope: read, and written as an archive.

Follows DMTF DSP0243, *Open Virtualization Format Specification*.

A descriptor in XML names the files of the package and which of them are disks; a manifest holds
their digests; a certificate file may sign the manifest. An OVA is a tar archive of them all, the
descriptor first.

A manifest is always verified, which means reading the whole package. Disks cut into chunks,
packages with several disks, and disks that hang on others are refused by name.
"""
