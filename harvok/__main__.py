"""`python -m harvok` is the same program as `harvok`."""

from harvok.cli.main import main

if __name__ == "__main__":
    main()
