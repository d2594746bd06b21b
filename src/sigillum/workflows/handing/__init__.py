"""What goes to other people and comes back: handover sheets, requests, receipts, work sheets."""
