"""The program `usher-gate`: the only place that knows the command line, exit statuses, colours and terminals."""
