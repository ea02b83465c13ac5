"""From files to rows: each source read, brought to the site, selected and given heights; then all joined."""
