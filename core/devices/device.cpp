#include "core/devices/device.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <set>

#include "core/devices/backends.hpp"
#include "core/printable.hpp"

namespace heathmist {

bool Device::has_rate(int rate_hz) const {
  return std::find(rates_hz.begin(), rates_hz.end(), rate_hz) != rates_hz.end();
}

std::vector<Device> devices() {
  std::vector<Device> all = devices_of_servers();
  std::set<std::string> names;
  for (Device& d : all) {
    d.of_server = d.name;
    for (int n = 2; !names.insert(d.name).second; ++n)
      d.name = fmt::format("{} ({}{})", d.of_server, d.backend, n > 2 ? fmt::format(" {}", n - 1) : "");
  }
  all.push_back(loop_device());
  return all;
}

const Device* default_input(const std::vector<Device>& all) {
  const Device* best = nullptr;
  for (const Device& d : all)
    if (d.inputs > 0 && (!best || (d.backend == best->backend && d.default_input && !best->default_input))) best = &d;
  return best;
}

const Device* default_output(const std::vector<Device>& all) {
  const Device* best = nullptr;
  for (const Device& d : all)
    if (d.outputs > 0 && (!best || (d.backend == best->backend && d.default_output && !best->default_output)))
      best = &d;
  return best;
}

const Device& device_of(const std::vector<Device>& all, const std::string& name) {
  const auto found = std::find_if(all.begin(), all.end(), [&](const Device& d) { return d.name == name; });
  if (found != all.end()) return *found;
  std::vector<std::string> names;
  for (const Device& d : all) names.push_back("'" + printable(d.name) + "'");
  throw std::invalid_argument(
      fmt::format("there is no audio device '{}'; there are {}", printable(name), fmt::join(names, ", ")));
}

const Device* counterpart_of(const std::vector<Device>& all, const Device& device) {
  static const std::string monitor = "Monitor of ";
  if (device.backend != "PulseAudio") return nullptr;
  const bool is_monitor = device.of_server.starts_with(monitor);
  const std::string wanted = is_monitor ? device.of_server.substr(monitor.size()) : monitor + device.of_server;
  for (const Device& d : all)
    if (d.backend == device.backend && d.of_server == wanted && (is_monitor ? d.outputs : d.inputs) > 0) return &d;
  return nullptr;
}

std::vector<OutputPair> outputs_beside(const std::vector<Device>& all, const StreamOrder& order) {
  std::vector<OutputPair> own, others;
  if (order.output.empty()) return own;
  const Device& sending = device_of(all, order.output);
  for (const Device& d : all) {
    if (!d.has_rate(order.sample_rate_hz) || d.stand_in != sending.stand_in) continue;
    for (int n = 0; n + 2 <= d.outputs; n += 2)
      if (&d != &sending)
        others.push_back({d.name, n});
      else if (n + 2 <= order.first_output || n >= order.first_output + order.outputs)
        own.push_back({d.name, n});
  }
  own.insert(own.end(), others.begin(), others.end());
  return own;
}

namespace {

void refuse_unless(const Device& d, bool is_input, const StreamOrder& order) {
  const int has = is_input ? d.inputs : d.outputs,
            last = is_input ? order.first_input + order.inputs : order.first_output + order.outputs;
  if (has == 0)
    throw DeviceError(fmt::format("{}: nothing can be {} it; choose another device", printable(d.name),
                                  is_input ? "recorded from" : "played through"));
  if (last > has)
    throw DeviceError(fmt::format("{}: it has {} {} and channel {} was asked for; choose among those",
                                  printable(d.name), has, is_input ? "inputs" : "outputs", last));
  if (!d.has_rate(order.sample_rate_hz))
    throw DeviceError(fmt::format("{}: it does not run at {} Hz; it takes {}", printable(d.name), order.sample_rate_hz,
                                  fmt::join(d.rates_hz, ", ")));
}

}  // namespace

std::unique_ptr<Stream> open_stream(const StreamOrder& order, StreamCallback callback) {
  const auto all = devices();
  const Device* in = order.input.empty() ? nullptr : &device_of(all, order.input);
  const Device* out = order.output.empty() ? nullptr : &device_of(all, order.output);
  if (in) refuse_unless(*in, true, order);
  if (out) refuse_unless(*out, false, order);
  if (in && out && in->backend != out->backend)
    throw DeviceError(
        fmt::format("{} and {} are reached by different ways ({}, {}) and have no common clock; choose both "
                    "of one",
                    printable(in->name), printable(out->name), in->backend, out->backend));
  const Device* either = in ? in : out;
  if (!either) throw DeviceError("neither a device to record from nor one to play through was chosen; choose one");
  return either->stand_in ? open_loop(order, std::move(callback)) : open_server(order, in, out, std::move(callback));
}

}  // namespace heathmist
