// LV2 effects, through lilv: whatever is installed, by its URI.
#include <fmt/format.h>
#include <lilv/lilv.h>
#include <lv2/urid/urid.h>

#include <cmath>
#include <map>
#include <sstream>

#include "core/stages/stage_context.hpp"

namespace heathmist {

namespace {

namespace p = parameter;

constexpr int64_t block = 1024;

struct Drop {
  void operator()(LilvWorld* w) const { lilv_world_free(w); }
  void operator()(LilvInstance* i) const {
    lilv_instance_deactivate(i);
    lilv_instance_free(i);
  }
  void operator()(LilvNode* n) const { lilv_node_free(n); }
};
template <class T>
using Held = std::unique_ptr<T, Drop>;

/// Numbers for URIs, which effects may ask for.
LV2_URID number_for(LV2_URID_Map_Handle, const char* uri) {
  static std::mutex lock;
  static std::map<std::string, LV2_URID> numbers;
  std::scoped_lock held(lock);
  return numbers.try_emplace(uri, LV2_URID(numbers.size() + 1)).first->second;
}
LV2_URID_Map map_of_uris{nullptr, number_for};
const LV2_Feature uri_map{LV2_URID__map, &map_of_uris};
const LV2_Feature* const features[] = {&uri_map, nullptr};

/// "gain=0.5, mix=1" as names and values.
std::map<std::string, float> controls_from(const std::string& text) {
  std::map<std::string, float> values;
  std::stringstream parts(text);
  for (std::string part; std::getline(parts, part, ',');) {
    const auto equals = part.find('=');
    const auto name = part.substr(part.find_first_not_of(' ') == std::string::npos ? 0 : part.find_first_not_of(' '));
    if (name.empty() || name == " ") continue;
    try {
      if (equals == std::string::npos) throw std::invalid_argument(part);
      values[name.substr(0, name.find('='))] = std::stof(part.substr(equals + 1));
    } catch (const std::exception&) {
      throw ChainError(fmt::format("controls: '{}' is no control with a value; write name=value, name=value", part));
    }
  }
  return values;
}

/// An effect, ready for one block after another: as many copies of it as the channels need.
class Effect {
 public:
  Effect(const std::string& uri, const std::string& controls, const ClipFormat& format)
      : wanted_(controls_from(controls)) {
    world_.reset(lilv_world_new());
    lilv_world_load_all(world_.get());
    plugin_ = find(uri);
    sort_ports(format.channels);
    const int copies = int(ins_.size()) == format.channels ? 1 : format.channels;
    for (int n = 0; n < copies; ++n) {
      copies_.emplace_back(lilv_plugin_instantiate(plugin_, format.sample_rate_hz, features));
      if (!copies_.back()) throw ChainError(fmt::format("the LV2 effect {} cannot be started", uri));
    }
    audio_.assign(std::max(ins_.size(), outs_.size()) * copies_.size() * 2, std::vector<float>(size_t(block), 0.0f));
    connect();
    latency_ = measured_latency();
  }
  int64_t latency() const { return latency_; }

  void run(Planar& sound) {
    for (int64_t at = 0; at < sound.frames(); at += block) {
      const auto frames = size_t(std::min(block, sound.frames() - at));
      for (int c = 0; c < sound.channels(); ++c)
        for (size_t n = 0; n < frames; ++n) input(c)[n] = float(sound.channel(c)[size_t(at) + n]);
      for (auto& copy : copies_) lilv_instance_run(copy.get(), uint32_t(frames));
      for (int c = 0; c < sound.channels(); ++c)
        for (size_t n = 0; n < frames; ++n) sound.channel(c)[size_t(at) + n] = double(output(c)[n]);
    }
  }

 private:
  const LilvPlugin* find(const std::string& uri) {
    const auto* all = lilv_world_get_all_plugins(world_.get());
    const Held<LilvNode> name(uri.find(':') == std::string::npos ? nullptr : lilv_new_uri(world_.get(), uri.c_str()));
    const LilvPlugin* plugin = name ? lilv_plugins_get_by_uri(all, name.get()) : nullptr;
    if (plugin) return plugin;
    std::string known;
    LILV_FOREACH(plugins, i, all)
    if (known.size() < 300)
      known +=
          (known.empty() ? "" : ", ") + std::string(lilv_node_as_uri(lilv_plugin_get_uri(lilv_plugins_get(all, i))));
    throw ChainError(
        fmt::format("no LV2 effect '{}' is installed; {}", uri, known.empty() ? "none is" : "there are " + known));
  }

  void sort_ports(int channels) {
    const Held<LilvNode> input(lilv_new_uri(world_.get(), LV2_CORE__InputPort)),
        audio(lilv_new_uri(world_.get(), LV2_CORE__AudioPort)),
        control(lilv_new_uri(world_.get(), LV2_CORE__ControlPort)),
        optional(lilv_new_uri(world_.get(), LV2_CORE__connectionOptional));
    const uint32_t count = lilv_plugin_get_num_ports(plugin_);
    controls_.assign(count, 0.0f);
    lilv_plugin_get_port_ranges_float(plugin_, nullptr, nullptr, controls_.data());
    std::string names;
    std::map<std::string, float> left = wanted_;
    for (uint32_t n = 0; n < count; ++n) {
      const LilvPort* port = lilv_plugin_get_port_by_index(plugin_, n);
      const bool in = lilv_port_is_a(plugin_, port, input.get());
      if (lilv_port_is_a(plugin_, port, audio.get())) {
        (in ? ins_ : outs_).push_back(n);
      } else if (lilv_port_is_a(plugin_, port, control.get())) {
        if (std::isnan(controls_[n])) controls_[n] = 0;
        const std::string symbol = lilv_node_as_string(lilv_port_get_symbol(plugin_, port));
        if (in) names += (names.empty() ? "" : ", ") + symbol;
        if (const auto found = left.find(symbol); in && found != left.end())
          controls_[n] = found->second, left.erase(found);
        control_ports_.push_back(n);
      } else if (!lilv_port_has_property(plugin_, port, optional.get())) {
        throw ChainError("this LV2 effect needs more than audio and controls, which is not offered here");
      }
    }
    if (!left.empty())
      throw ChainError(fmt::format("controls: the effect has no '{}'; it has {}", left.begin()->first,
                                   names.empty() ? "none" : names));
    const bool fits = ins_.size() == outs_.size() && (int(ins_.size()) == channels || ins_.size() == 1);
    if (!fits)
      throw ChainError(
          fmt::format("this LV2 effect takes {} channels and gives {}, the audio has {}; put a channel map before it",
                      ins_.size(), outs_.size(), channels));
  }

  std::vector<float>& input(int channel) { return audio_[size_t(channel)]; }
  std::vector<float>& output(int channel) { return audio_[audio_.size() / 2 + size_t(channel)]; }

  void connect() {
    for (size_t i = 0; i < copies_.size(); ++i) {
      LilvInstance* copy = copies_[i].get();
      for (const uint32_t n : control_ports_) lilv_instance_connect_port(copy, n, &controls_[n]);
      for (size_t k = 0; k < ins_.size(); ++k) {
        lilv_instance_connect_port(copy, ins_[k], input(int(i * ins_.size() + k)).data());
        lilv_instance_connect_port(copy, outs_[k], output(int(i * ins_.size() + k)).data());
      }
      lilv_instance_activate(copy);
    }
  }

  /// What the effect reports once it has run; it is then set back to its start.
  int64_t measured_latency() {
    if (!lilv_plugin_has_latency(plugin_)) return 0;
    for (auto& copy : copies_) lilv_instance_run(copy.get(), uint32_t(block));
    const float reported = controls_[lilv_plugin_get_latency_port_index(plugin_)];
    for (auto& copy : copies_) lilv_instance_deactivate(copy.get()), lilv_instance_activate(copy.get());
    return std::isfinite(reported) && reported > 0 ? int64_t(std::lround(reported)) : 0;
  }

  std::map<std::string, float> wanted_;
  Held<LilvWorld> world_;
  const LilvPlugin* plugin_ = nullptr;
  std::vector<uint32_t> ins_, outs_, control_ports_;
  std::vector<float> controls_;
  std::vector<std::vector<float>> audio_;  // inputs, then outputs
  std::vector<Held<LilvInstance>> copies_;
  int64_t latency_ = 0;
};

AudioStreamPtr make(AudioStreamPtr in, const Values& v, StageContext& context) {
  const auto effect = std::make_shared<Effect>(v.text("uri"), v.text("controls"), in->format());
  context.report.delay_samples = effect->latency();
  return changed_flow(
      std::move(in), [effect](Planar& sound) { effect->run(sound); }, effect->latency());
}

}  // namespace

std::vector<StageFamily> lv2_stages() {
  return {{{"lv2",
            "LV2 effect",
            "An installed LV2 effect, its reported latency taken away again.",
            {p::text("uri", "the effect's URI", ""),
             p::text("controls", "name=value, name=value; the rest as the effect sets them", "")},
            Capability::load_plugin},
           make,
           [](const Values& v) {
             const std::string uri = v.text("uri");
             const auto at = uri.find_last_of("/#:");
             return uri.empty() ? std::string("LV2 effect") : at == std::string::npos ? uri : uri.substr(at + 1);
           }}};
}

}  // namespace heathmist
