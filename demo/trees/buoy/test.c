#include "buoy.h"
#include <stdio.h>
#include <string.h>

static int failed, count;
#define OK(what, name) (count++, printf("%sok %d - %s\n", (what) ? "" : (failed = 1, "not "), count, name))

int main(void) {
    char out[64];
    OK(frame("WIND,7.2,NE", out, sizeof out) == strlen(out), "a sentence is framed");
    OK(whole(out), "a framed sentence is whole");
    out[3] ^= 1;
    OK(!whole(out), "a changed byte is noticed");
    OK(frame("WIND,7.2,NE", out, 8) == 0, "a sentence that does not fit is refused");
    OK(!whole("WIND*00"), "a sentence without its mark is not whole");
    printf("1..%d\n", count);
    return failed;
}
