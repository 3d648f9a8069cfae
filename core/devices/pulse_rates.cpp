// The rates PulseAudio's sinks and sources run at, asked of the server itself: RtAudio does not tell.
#include <pulse/context.h>
#include <pulse/introspect.h>
#include <pulse/mainloop.h>

#include <chrono>

#include "core/devices/backends.hpp"

namespace heathmist {

namespace {

using Rates = std::map<std::string, int>;

/// One question to the server, and nothing left of it afterwards.
class Question {
 public:
  Question() : loop_(pa_mainloop_new()), context_(pa_context_new(pa_mainloop_get_api(loop_), "Heathmist")) {}
  ~Question() {
    pa_context_disconnect(context_);
    pa_context_unref(context_);
    pa_mainloop_free(loop_);
  }
  Question(const Question&) = delete;
  Question& operator=(const Question&) = delete;

  Rates ask() {
    if (pa_context_connect(context_, nullptr, PA_CONTEXT_NOAUTOSPAWN, nullptr) < 0) return {};
    if (!wait([this] { return pa_context_get_state(context_) == PA_CONTEXT_READY; })) return {};
    auto* sinks = pa_context_get_sink_info_list(context_, &Question::take<pa_sink_info>, this);
    auto* sources = pa_context_get_source_info_list(context_, &Question::take<pa_source_info>, this);
    wait([this] { return ended_ == 2; });
    if (sinks) pa_operation_unref(sinks);
    if (sources) pa_operation_unref(sources);
    return rates_;
  }

 private:
  template <class Info>
  static void take(pa_context*, const Info* info, int end, void* self) {
    auto& question = *static_cast<Question*>(self);
    if (end != 0) ++question.ended_;
    if (end == 0 && info && info->description) question.rates_[info->description] = int(info->sample_spec.rate);
  }
  template <class Done>
  bool wait(Done done) {
    const auto until = std::chrono::steady_clock::now() + std::chrono::seconds(2);
    while (!done() && PA_CONTEXT_IS_GOOD(pa_context_get_state(context_)) && std::chrono::steady_clock::now() < until) {
      pa_mainloop_prepare(loop_, 50'000);
      if (pa_mainloop_poll(loop_) < 0 || pa_mainloop_dispatch(loop_) < 0) return false;
    }
    return done();
  }

  pa_mainloop* loop_;
  pa_context* context_;
  Rates rates_;
  int ended_ = 0;
};

}  // namespace

std::map<std::string, int> pulse_rates() { return Question().ask(); }

}  // namespace heathmist
