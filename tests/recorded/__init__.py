"""What every command said before the house was rebuilt: it says the same after."""
