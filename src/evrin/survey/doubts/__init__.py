"""What about a survey is in doubt once it is triangulated: heights, edges, level triangles."""
