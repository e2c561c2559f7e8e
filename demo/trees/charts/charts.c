#include "charts.h"
#include <math.h>

#define PI 3.14159265358979323846

void tile_of(double latitude, double longitude, int zoom, int *x, int *y) {
    double n = (double)(1 << zoom), radians = latitude * PI / 180;
    *x = (int)floor((longitude + 180) / 360 * n);
    *y = (int)floor((1 - asinh(tan(radians)) / PI) / 2 * n);
}

double longitude_of(int x, int zoom) { return x / (double)(1 << zoom) * 360 - 180; }

double latitude_of(int y, int zoom) { return atan(sinh(PI * (1 - 2.0 * y / (1 << zoom)))) * 180 / PI; }
