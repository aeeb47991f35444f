"""The ledger of pickups, call sheets, and sorting takes that came in."""
