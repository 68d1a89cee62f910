/* The compute workload: CRC-32, a sort, an integer matrix product, a string search, again and again. No peripherals. */
#include <avr/io.h>
#include <stdint.h>
#include <string.h>

static volatile uint32_t sink;
static uint8_t block[512];
static int16_t values[64];
static int16_t a[12][12], b[12][12], c[12][12];
static const char text[] = "the lower gate is closed, the upper gate is open, the keeper rings, boats wait below the lock";

static uint32_t crc32(const uint8_t *p, uint16_t n)
{
    uint32_t crc = 0xFFFFFFFF;
    while (n--) {
        crc ^= *p++;
        for (uint8_t i = 0; i < 8; i++)
            crc = crc & 1 ? (crc >> 1) ^ 0xEDB88320 : crc >> 1;
    }
    return ~crc;
}

static void sort(int16_t *v, uint8_t n)
{
    for (uint8_t gap = n / 2; gap > 0; gap /= 2)
        for (uint8_t i = gap; i < n; i++)
            for (int16_t k = i - gap; k >= 0 && v[k] > v[k + gap]; k -= gap) {
                const int16_t t = v[k];
                v[k] = v[k + gap];
                v[k + gap] = t;
            }
}

static void multiply(void)
{
    for (uint8_t i = 0; i < 12; i++)
        for (uint8_t k = 0; k < 12; k++) {
            int16_t sum = 0;
            for (uint8_t m = 0; m < 12; m++)
                sum += a[i][m] * b[m][k];
            c[i][k] = sum;
        }
}

static uint8_t search(const char *needle)
{
    uint8_t found = 0;
    for (const char *p = text; (p = strstr(p, needle)) != 0; p++)
        found++;
    return found;
}

int main(void)
{
    uint16_t seed = 1;
    for (;;) {
        for (uint16_t i = 0; i < sizeof block; i++)
            block[i] = seed = seed * 25173 + 13849;
        for (uint8_t i = 0; i < 64; i++)
            values[i] = seed = seed * 25173 + 13849;
        for (uint8_t i = 0; i < 12; i++)
            for (uint8_t k = 0; k < 12; k++) {
                a[i][k] = seed = seed * 25173 + 13849;
                b[i][k] = i - k;
            }
        sort(values, 64);
        multiply();
        sink += crc32(block, sizeof block) + values[7] + c[3][4] + search("gate") + search("lock");
    }
}
