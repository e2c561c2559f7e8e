/* A weather buoy's telegram: the checksum and framing of its sentences. */
#ifndef BUOY_H
#define BUOY_H
#include <stddef.h>
/* XOR of all bytes between the frame marks. */
unsigned char checksum(const char *text, size_t length);
/* Writes $TEXT*CS into out; returns its length, or 0 when it does not fit. */
size_t frame(const char *text, char *out, size_t room);
/* 1 when a framed sentence is whole and its checksum is right. */
int whole(const char *sentence);
#endif
