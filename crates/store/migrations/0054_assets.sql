-- Tables of light and pictures that the house keeps are called what the trade calls them.
RENAME TABLE IF EXISTS aids TO assets;
