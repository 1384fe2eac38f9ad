"""The place Receipts: what past crossings did."""
