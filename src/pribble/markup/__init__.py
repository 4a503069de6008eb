"""HTML as data: tokens, open elements, the place of every mark.  Nothing here knows the template language;
a mark is just a character of planes 15 and 16."""
