"""What people read: sentences in their language, figures and dates as their locale writes them."""
