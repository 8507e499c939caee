"""``python -m veldrain``."""

from veldrain.cli import main

main()
