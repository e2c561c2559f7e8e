#include "barometer.h"
#include <math.h>
#include <stdio.h>

static int failed, count;
#define OK(what, name) (count++, printf("%sok %d - %s\n", (what) ? "" : (failed = 1, "not "), count, name))

int main(void) {
    struct barometer barometer = {0};
    double mean = 0;
    for (int i = 0; i < 100; i++)
        mean = barometer_take(&barometer, 1000.0 + i);
    OK(fabs(mean - 1095.5) < 1e-9, "the mean is of the last eight readings");
    OK(fabs(depth(2018.25, 1013.25) - 9.998) < 0.01, "ten metres of sea water are about one atmosphere");
    OK(depth(1013.25, 1013.25) == 0, "at the surface the depth is nothing");
    printf("1..%d\n", count);
    return failed;
}
