/* Chart tiles on the spherical Mercator projection. */
#ifndef CHARTS_H
#define CHARTS_H
void tile_of(double latitude, double longitude, int zoom, int *x, int *y);
double longitude_of(int x, int zoom);
double latitude_of(int y, int zoom);
#endif
