#include "app/listen/rate_bridge.hpp"

#include <soxr.h>

namespace heathmist::app {

void RateBridge::Drop::operator()(soxr* converter) const { soxr_delete(converter); }

RateBridge::RateBridge(int from_hz, int to_hz) : source_(chunk * 2) {
  const auto interleaved = soxr_io_spec(SOXR_FLOAT64_I, SOXR_FLOAT64_I);
  const auto quality = soxr_quality_spec(SOXR_HQ, 0);
  converter_.reset(soxr_create(from_hz, to_hz, 2, nullptr, &interleaved, &quality, nullptr));
}

void RateBridge::fill(std::span<double> out, const Render& render) {
  const size_t wanted = out.size() / 2;
  for (size_t done = 0; done < wanted;) {
    if (used_ == chunk) {
      render(source_);
      used_ = 0;
    }
    size_t taken = 0, made = 0;
    soxr_process(converter_.get(), source_.data() + 2 * used_, chunk - used_, &taken, out.data() + 2 * done,
                 wanted - done, &made);
    used_ += taken;
    done += made;
  }
}

}  // namespace heathmist::app
