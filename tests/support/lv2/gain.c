/* A small LV2 effect for the tests: a gain, and 64 samples of latency that it reports. */
#include <lv2/core/lv2.h>
#include <stdlib.h>
#include <string.h>

#define LATE 64

typedef struct {
  float* ports[4]; /* in, out, gain, latency */
  float past[LATE];
  unsigned at;
} Gain;

static LV2_Handle instantiate(const LV2_Descriptor* d, double rate, const char* path, const LV2_Feature* const* features) {
  (void)d, (void)rate, (void)path, (void)features;
  return calloc(1, sizeof(Gain));
}
static void connect_port(LV2_Handle h, uint32_t port, void* data) {
  if (port < 4) ((Gain*)h)->ports[port] = (float*)data;
}
static void activate(LV2_Handle h) {
  Gain* g = (Gain*)h;
  memset(g->past, 0, sizeof g->past);
  g->at = 0;
}
static void run(LV2_Handle h, uint32_t frames) {
  Gain* g = (Gain*)h;
  for (uint32_t n = 0; n < frames; ++n) {
    const float now = g->ports[0][n];
    g->ports[1][n] = *g->ports[2] * g->past[g->at];
    g->past[g->at] = now;
    g->at = (g->at + 1) % LATE;
  }
  *g->ports[3] = LATE;
}
static void cleanup(LV2_Handle h) { free(h); }

static const LV2_Descriptor descriptor = {"urn:heathmist:test-gain", instantiate, connect_port, activate, run, NULL, cleanup, NULL};

LV2_SYMBOL_EXPORT const LV2_Descriptor* lv2_descriptor(uint32_t index) { return index == 0 ? &descriptor : NULL; }
