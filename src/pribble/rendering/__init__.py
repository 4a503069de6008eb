"""One run of a template, in all the forms that a message needs."""
