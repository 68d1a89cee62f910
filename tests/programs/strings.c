#include "selfcheck.h"
#include <stdlib.h>
#include <string.h>

int main(void)
{
    begin();
    char text[40];
    strcpy(text, "withy");
    strcat(text, " lock");
    CHECK(strlen(text) == 10);
    CHECK(strcmp(text, "withy lock") == 0);
    CHECK(strchr(text, 'l') == text + 6);
    CHECK(strstr(text, "lock") == text + 6);
    memmove(text + 2, text, 5);
    CHECK(memcmp(text, "wiwithylock", 7) == 0);
    memset(text, '-', 5);
    CHECK(text[4] == '-' && text[5] != '-');
    CHECK(strncmp("gate a", "gate b", 5) == 0 && strcmp("gate a", "gate b") < 0);
    CHECK(strtol("-1234", 0, 10) == -1234 && strtoul("ffee", 0, 16) == 0xFFEE);
    finish();
}
