"""The night as the window sees it: selection, edits with undo, qualities, matching, jobs. No widget."""
