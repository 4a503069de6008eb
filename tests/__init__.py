"""The tests: they drive the public interface, the command line and the examples."""
