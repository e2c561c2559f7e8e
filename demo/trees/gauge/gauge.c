#include "gauge.h"

double gauge_take(struct gauge *gauge, double hectopascal) {
    int slot = gauge->count % 8;
    if (gauge->count >= 8)
        gauge->sum -= gauge->last[slot];
    gauge->last[slot] = hectopascal;
    gauge->sum += hectopascal;
    gauge->count++;
    return gauge->sum / (gauge->count < 8 ? gauge->count : 8);
}

double depth(double hectopascal, double surface) {
    return (hectopascal - surface) * 100.0 / (1025.0 * 9.80665);
}
