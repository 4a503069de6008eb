"""Getting messages out: to a server, to a folder, or to the small stand-in receiver."""
