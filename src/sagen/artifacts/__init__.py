"""Files that have an owner: leases, files that are written whole or not at all, passing folders, small texts."""
