"""python -m zapato."""

from zapato.cli import main

main()
