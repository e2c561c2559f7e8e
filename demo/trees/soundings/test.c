#include "soundings.h"
#include <math.h>
#include <stdio.h>

static int failed, count;
#define OK(what, name) (count++, printf("%sok %d - %s\n", (what) ? "" : (failed = 1, "not "), count, name))

int main(void) {
    const struct harmonic skerry[] = {{1.8, 28.984104, 60}, {0.6, 30.0, 100}, {0.1, 15.041069, 20}};
    OK(fabs(height(skerry, 1, 60 / 28.984104) - 1.8) < 1e-9, "one harmonic is highest at its phase");
    double first = high_water(skerry, 3, 0), second = high_water(skerry, 3, first + 1);
    OK(second - first > 11 && second - first < 14, "high waters are about half a day apart");
    double most = 0;
    for (int year = 0; year < 8766 * 60; year++)
        most = fmax(most, height(skerry, 3, year / 60.0));
    OK(most < 2.5 && most > 2.3, "the highest water of a year is nearly the sum of the amplitudes");
    printf("1..%d\n", count);
    return failed;
}
