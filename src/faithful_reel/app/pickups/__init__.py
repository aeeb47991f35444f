"""The Pickups desk: the ledger."""
