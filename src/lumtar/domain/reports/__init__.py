"""Questions that join the tables of several apps: lists, cells, charts, what Now shows. Nothing of the domain imports it."""
