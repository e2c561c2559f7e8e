#include "charts.h"
#include <math.h>
#include <stdio.h>

static int failed, count;
#define OK(what, name) (count++, printf("%sok %d - %s\n", (what) ? "" : (failed = 1, "not "), count, name))

int main(void) {
    int x, y, wrong = 0;
    tile_of(0, 0, 1, &x, &y);
    OK(x == 1 && y == 1, "the middle of the chart begins the last tile");
    for (int zoom = 0; zoom <= 9; zoom++)
        for (int i = 0; i < 1 << zoom; i++) {
            tile_of(latitude_of(i, zoom) - 1e-7, longitude_of(i, zoom) + 1e-7, zoom, &x, &y);
            wrong += x != i || y != i;
        }
    OK(wrong == 0, "a tile's corner is in the tile, at every zoom");
    OK(fabs(latitude_of(0, 3) - 85.0511) < 1e-3, "the chart ends at 85 degrees");
    printf("1..%d\n", count);
    return failed;
}
