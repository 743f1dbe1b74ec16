#include "scale.h"

/* The last week of readings, one an hour; the service keeps the year. */
static int32_t history[7 * 24];

int32_t scale_weigh(struct scale *s, int32_t raw)
{
	static unsigned at;
	int32_t grams = raw - s->tare;

	if (grams < 0 || grams > SCALE_MOST)
		return -1;
	s->last = grams;
	history[at++ % (7 * 24)] = grams;
	return grams;
}

int scale_swarmed(const struct scale *s, int32_t now)
{
	return s->last - now >= 1500;
}
