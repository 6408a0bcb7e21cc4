"""Trees: a root and its entries; scanning, comparing, and holding them against a record."""
