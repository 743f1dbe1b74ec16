#include "scale.h"

int32_t scale_weigh(struct scale *s, int32_t raw)
{
	int32_t grams = raw - s->tare;

	if (grams < 0 || grams > SCALE_MOST)
		return -1;
	s->last = grams;
	return grams;
}

int scale_swarmed(const struct scale *s, int32_t now)
{
	return s->last - now >= 1500;
}
