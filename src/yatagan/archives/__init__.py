"""Archives of any open format, read on this machine: what compresses them, zip, and what a file is by its first bytes.

Tar itself is in `portable/`, since nodes read and write it as well.
"""
