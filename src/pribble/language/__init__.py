"""The template language: from the text of template files to one linked tape of literals and marks."""
