"""`python -m zesty_otter`."""

from zesty_otter.cli import main

main()
