"""The view Receipts: the records of past crossings."""
