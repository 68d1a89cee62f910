#include "selfcheck.h"
#include <stdarg.h>
static int sum(int n, ...)
{
    va_list args;
    int total = 0;
    va_start(args, n);
    while (n-- > 0)
        total += va_arg(args, int);
    va_end(args);
    return total;
}

int main(void)
{
    begin();
    CHECK(sum(3, 10, 20, 30) == 60);
    CHECK(sum(5, 1, -2, 3, -4, 5) == 3);
    CHECK(sum(0) == 0);
    finish();
}
