#include "buoy.h"
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

unsigned char checksum(const char *text, size_t length) {
    unsigned char sum = 0;
    for (size_t i = 0; i < length; i++)
        sum ^= (unsigned char)text[i];
    return sum;
}

size_t frame(const char *text, char *out, size_t room) {
    size_t length = strlen(text);
    if (length + 5 > room)
        return 0;
    return (size_t)snprintf(out, room, "$%s*%02X", text, checksum(text, length));
}

int whole(const char *sentence) {
    const char *star = strrchr(sentence, '*');
    if (sentence[0] != '$' || star == NULL || strlen(star) != 3)
        return 0;
    return (unsigned char)strtol(star + 1, NULL, 16) == checksum(sentence + 1, (size_t)(star - sentence - 1));
}
