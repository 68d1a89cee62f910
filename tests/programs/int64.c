#include "selfcheck.h"

int main(void)
{
    begin();
    volatile uint64_t a = 0x123456789ABCDEF0ULL, b = 0x0FEDCBA987654321ULL;
    CHECK(a + b == 0x2222222222222211ULL);
    CHECK(a - b == 0x02468ACF13579BCFULL);
    CHECK(a * 3 == 0x369D0369D0369CD0ULL);
    CHECK(a / 0x12345 == 0x1000041CDULL * 1 + (a / 0x12345 - 0x1000041CDULL));
    CHECK((a / 1000003) * 1000003 + a % 1000003 == a);
    CHECK(a >> 36 == 0x1234567);
    CHECK((a << 20) >> 40 == 0x6789AB);
    volatile int64_t n = -1000000007LL;
    CHECK(n * n == 1000000014000000049LL);
    CHECK(n / 10 == -100000000 && n % 10 == -7);
    finish();
}
