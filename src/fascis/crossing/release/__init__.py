"""What is set aside or deleted, and what stays and why. The only room that deletes originals."""
