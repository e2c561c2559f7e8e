#include "barometer.h"

double barometer_take(struct barometer *barometer, double hectopascal) {
    int slot = barometer->count % 8;
    if (barometer->count >= 8)
        barometer->sum -= barometer->last[slot];
    barometer->last[slot] = hectopascal;
    barometer->sum += hectopascal;
    barometer->count++;
    return barometer->sum / (barometer->count < 8 ? barometer->count : 8);
}

double depth(double hectopascal, double surface) {
    return (hectopascal - surface) * 100.0 / (1025.0 * 9.80665);
}
