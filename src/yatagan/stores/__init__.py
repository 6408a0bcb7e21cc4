"""Files anywhere, behind one narrow interface: on this machine, or on a node over SFTP."""
