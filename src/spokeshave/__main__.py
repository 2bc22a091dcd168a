from spokeshave.cli import main

main()
