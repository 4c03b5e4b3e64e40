"""The sky view: picture, marks, tools, stretch, read-out."""
