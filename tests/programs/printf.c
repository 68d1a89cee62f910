#include "selfcheck.h"
#include <stdio.h>
#include <string.h>

int main(void)
{
    begin();
    char text[60];
    sprintf(text, "%d %u %x %ld|%5d|%-5d|%05d|%c%s", -12, 65000u, 0xBEEF, 123456789L, 42, 42, 42, 'w', "ithy");
    CHECK(strcmp(text, "-12 65000 beef 123456789|   42|42   |00042|withy") == 0);
    int a, b;
    char word[10];
    CHECK(sscanf("17 -4 gate", "%d %d %9s", &a, &b, word) == 3 && a == 17 && b == -4 && strcmp(word, "gate") == 0);
    finish();
}
