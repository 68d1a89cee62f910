#include "selfcheck.h"
#include <math.h>

int main(void)
{
    begin();
    volatile float x = 2.0f;
    CHECK(fabs(sqrt(x) - 1.41421356f) < 1e-6f);
    CHECK(fabs(sin(1.0) - 0.84147098f) < 1e-6f);
    CHECK(fabs(exp(1.0) - 2.7182818f) < 1e-6f);
    CHECK(fabs(log(10.0) - 2.3025851f) < 1e-6f);
    CHECK(fabs(atan2(1.0, 1.0) - 0.78539816f) < 1e-6f);
    CHECK(fabs(pow(x, 10.0) - 1024.0f) < 0.01f);
    CHECK(floor(-2.5) == -3.0f && ceil(2.1) == 3.0f);
    finish();
}
