"""`python -m harvok` is the same program as `harvok`."""

from harvok.cli.entry import main

if __name__ == "__main__":
    main()
