"""What goes on beside the window: questions in threads, portions of a turn, the movie, sweeping garbage."""
