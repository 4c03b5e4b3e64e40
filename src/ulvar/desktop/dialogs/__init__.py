"""Windows that open over the main one."""
