/* Prints the Test Anything Protocol. */
#include <stdio.h>

#include "scale.h"

static int number, failed;

static void check(int ok, const char *what)
{
	printf("%sok %d - %s\n", ok ? "" : "not ", ++number, what);
	failed += !ok;
}

int main(void)
{
	struct scale s = { .tare = 12000 };

	check(scale_weigh(&s, 40000) == 28000, "the tare is taken off");
	check(scale_weigh(&s, 11000) == -1, "less than nothing cannot be");
	check(scale_weigh(&s, 300000) == -1, "no hive weighs 288 kg");
	check(scale_swarmed(&s, 26000), "two kilograms less: they swarmed");
	check(!scale_swarmed(&s, 27500), "half a kilogram less: they are out foraging");
	printf("1..%d\n", number);
	return failed > 0;
}
