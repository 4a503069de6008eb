"""The template language: from the text of template files to one linked source of literals and marks."""
