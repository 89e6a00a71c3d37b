"""`python -m ibexite` is the command `ibexite`."""

from ibexite.cli.entry import main

if __name__ == "__main__":
    main()
