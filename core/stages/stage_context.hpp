// What every family of stages is built from. Inside core/stages only.
#pragma once
#include "core/audio/temporary.hpp"
#include "core/stages/audio_stream.hpp"
#include "core/stages/chain.hpp"

namespace heathmist {

/// A stage's values, checked and filled up.
class Values {
 public:
  Values(const StageType& type, const Stage& stage) : type_(&type), stage_(&stage) {}
  double number(const char* key) const { return value(key).get<double>(); }
  int whole(const char* key) const { return int(number(key)); }
  bool flag(const char* key) const { return value(key).get<bool>(); }
  std::string text(const char* key) const { return value(key).get<std::string>(); }
  double gain(const char* key) const;  ///< of a level in dB

 private:
  Json value(const char* key) const;
  const StageType* type_;
  const Stage* stage_;
};

/// A file that is kept once the whole chain has run; it lies in a folder that goes away.
struct PendingFile {
  std::shared_ptr<const TemporaryFolder> folder;
  std::filesystem::path from, to;
  size_t report;  ///< of the stage, among the round's
};

/// What surrounds a stage while it is made.
struct StageContext {
  std::filesystem::path origin;  ///< the master's file, for sentences
  StageReport& report;
  Job job;
  std::vector<PendingFile>& kept;
  size_t place;  ///< of its report among the round's
};

using Make = AudioStreamPtr (*)(AudioStreamPtr in, const Values& values, StageContext& context);
struct StageFamily {
  StageType type;
  Make make;
  std::string (*words)(const Values& values);
};

std::vector<StageFamily> codec_stages();
std::vector<StageFamily> converter_stages();
std::vector<StageFamily> word_length_stages();
std::vector<StageFamily> level_stages();
std::vector<StageFamily> filter_stages();
std::vector<StageFamily> dynamics_stages();
std::vector<StageFamily> fault_stages();
std::vector<StageFamily> convolution_stages();
std::vector<StageFamily> external_stages();
std::vector<StageFamily> lv2_stages();

/// What rooms above this one make of stages joins the list; before it is first asked for.
void offer_stages(std::vector<StageFamily> (*stages)());
/// One stage within another.
AudioStreamPtr run_stage(const Stage& stage, AudioStreamPtr in, StageContext& context);

namespace parameter {
Parameter number(const char* key, const char* what, const char* unit, double low, double high, double initial);
Parameter whole(const char* key, const char* what, const char* unit, int low, int high, int initial);
Parameter choice(const char* key, const char* what, std::vector<std::string> choices);
Parameter flag(const char* key, const char* what, bool initial);
Parameter file(const char* key, const char* what);
/// The same, counting only where the choice `when` is one of these.
Parameter only(Parameter parameter, const char* when, std::vector<std::string> one_of);
Parameter text(const char* key, const char* what, const char* initial);
}  // namespace parameter

/// A number as it would be written by hand: 128, 0.5, -1.
std::string plain(double value);

}  // namespace heathmist
