"""The window itself: regions, path, finder, actions."""
