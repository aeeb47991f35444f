"""The store of one production: one folder, one database, the journal."""
