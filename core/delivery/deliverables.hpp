// For each master the set of files that should exist: which are there, which are missing, and which were made from an
// older version of it. What is called what does not matter: files are told by their sound and their format.
//
//   auto plan = load_plan("plan.json");
//   Deliverables d = find_deliverables(plan, {{"mill-race.wav", {"mill-race v1.wav"}}}, files);
#pragma once
#include "core/delivery/delivery_plan.hpp"

namespace heathmist {

struct MasterVersions {
  std::filesystem::path now;
  std::vector<std::filesystem::path> earlier{};  ///< oldest first
};

struct Deliverable {
  /// The better, the earlier: of two files for one place the better one has it.
  enum class State {
    present,
    faulty,   ///< it is there, and breaks a rule
    older,    ///< it was made from an earlier version: what that differs by from the master is in it
    another,  ///< lossless, and not the master in another format: limited, filtered, coded or changed on the way
    missing
  };
  size_t master = 0, wanted = 0;
  State state = State::missing;
  std::optional<std::filesystem::path> file{};
  std::optional<size_t> version{};  ///< the earlier one, from 0
  std::optional<double>
      residual_relative_db{};  ///< against the master as it is; none: it is missing, or nothing is left
  std::vector<Fault> faults{};
};
const char* name_of(Deliverable::State state);

struct Deliverables {
  std::vector<Deliverable> wanted;  ///< master by master, in the order of the plan
  struct Aside {
    std::filesystem::path file;
    std::string sentence;    ///< why it is none: no master sounds like it, or the plan has none of its format
    bool is_unread = false;  ///< it could not be used at all
  };
  std::vector<Aside> aside;
  size_t missing() const;
  bool complete() const;  ///< all are present
};

/// Files that cannot be read are told aside. Throws InputError for a master that cannot be, Cancelled.
Deliverables find_deliverables(const DeliveryPlan& plan, const std::vector<MasterVersions>& masters,
                               const std::vector<std::filesystem::path>& files, const Job& job = {});

Json deliverable_json(const Deliverable& d, const DeliveryPlan& plan, const std::vector<MasterVersions>& masters);

}  // namespace heathmist
