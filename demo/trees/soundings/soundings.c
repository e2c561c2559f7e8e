#include "soundings.h"
#include <math.h>

#define DEGREE (3.14159265358979323846 / 180.0)

double height(const struct harmonic *harmonics, int count, double hours) {
    double sum = 0;
    for (int i = 0; i < count; i++)
        sum += harmonics[i].amplitude * cos((harmonics[i].speed * hours - harmonics[i].phase) * DEGREE);
    return sum;
}

double high_water(const struct harmonic *harmonics, int count, double from) {
    const double minute = 1.0 / 60.0;
    double before = height(harmonics, count, from - minute), now = height(harmonics, count, from);
    for (double hour = from;; hour += minute) {
        double next = height(harmonics, count, hour + minute);
        if (now >= before && now > next)
            return hour;
        before = now;
        now = next;
    }
}
