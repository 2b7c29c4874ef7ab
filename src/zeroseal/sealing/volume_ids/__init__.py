"""Other identities for a disk's partition table and volumes, and for all that names them.

``ids`` lists what there is and changes it in the structures of the disk; ``references`` finds what
in the guest names it, by a search of the disk's bytes and inside boot archives; ``renew`` plans and
does both, and looks at the result afresh.
"""
