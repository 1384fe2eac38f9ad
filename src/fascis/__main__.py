"""``python -m fascis``."""

from fascis.commands.app import main

if __name__ == "__main__":
    main()
