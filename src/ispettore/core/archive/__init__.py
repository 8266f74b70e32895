"""The archive of a production: what it holds, how it is checked, and the record of what was done."""
