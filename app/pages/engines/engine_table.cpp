#include "app/pages/engines/engine_table.hpp"

#include <cmath>

#include "app/pages/engines/engine_cards.hpp"
#include "core/probes/engine_answers.hpp"

namespace heathmist::app {

namespace {

/// A column of numbers: `of` gives one by row.
template <class Of>
Column number_column(const char* term, const QString& title, const QString& hint, int decimals, Of of) {
  return {title, hint, [of, decimals](size_t n) { return number_cell(of(n), decimals); }, true, 92, term};
}

Cell level_cell(double amplitude) {
  if (std::abs(amplitude) < 1e-4) return {QString::fromUtf8("\u2212\u221e"), -999};
  return number_cell(20 * std::log10(std::abs(amplitude)), 2);
}

void show_gain(ResultTable& table, std::shared_ptr<const ProbeReading> r) {
  const auto& events = r->gain->events;
  const auto event = [r](size_t n) -> const GainEventReading& { return r->gain->events[n]; };
  table.set_columns(
      {{QObject::tr("Event"),
        {},
        [event](size_t n) {
          return Cell{
              with_minus(event(n).drawn.name), {}, QObject::tr("drawn at %1 s").arg(event(n).drawn.at_s, 0, 'f', 3)};
        },
        false,
        Column::stretch},
       {QObject::tr("Drawn"), QObject::tr("How long it is drawn, ms"),
        [event](size_t n) {
          return event(n).drawn.length_s == 0 ? Cell{QObject::tr("at once"), 0}
                                              : number_cell(1000 * event(n).drawn.length_s, 0);
        },
        true, 78, "time"},
       number_column("late", QObject::tr("Late, ms"),
                     QObject::tr("When half of it is done, against the drawn time; of a ramp, the level of its middle"),
                     2, [event](size_t n) { return event(n).late_ms; }),
       number_column("rise", QObject::tr("10\u201390 %, ms"),
                     QObject::tr("From a tenth to nine tenths of the change in amplitude"), 2,
                     [event](size_t n) { return event(n).rise_ms; }),
       number_column("rise", QObject::tr("Whole, ms"), QObject::tr("From 1 to 99 % of it"), 2,
                     [event](size_t n) { return event(n).length_ms; }),
       number_column("overshoot", QObject::tr("Over, dB"), QObject::tr("How far it goes beyond where it ends"), 2,
                     [event](size_t n) { return event(n).overshoot_db; }),
       {QObject::tr("Stairs"), QObject::tr("How many, and how long each, ms"),
        [event](size_t n) {
          return event(n).stairs ? Cell{QObject::tr("%1 of %2")
                                            .arg(event(n).stairs->count)
                                            .arg(number(event(n).stairs->step_ms, 2)),
                                        double(event(n).stairs->count)}
                                 : Cell{QObject::tr("none")};
        },
        true, 92, "stairs"},
       number_column("splash", QObject::tr("Splash, dBFS"),
                     QObject::tr("What it throws above 5 kHz in the 40 ms around it"), 0,
                     [event](size_t n) { return event(n).splash_dbfs; })});
  table.set_rows(events.size(), [event](size_t n) { return QString::fromStdString(event(n).drawn.name); });
}

void show_pan(ResultTable& table, std::shared_ptr<const ProbeReading> r) {
  const auto level = [r](const QString& title, const QString& hint, size_t input, size_t output) {
    return Column{
        title, hint, [r, input, output](size_t n) { return level_cell(r->pan->positions[n].matrix[input][output]); },
        true,  112,  "pan"};
  };
  std::vector<Column> columns{
      {QObject::tr("Position"),
       {},
       [r](size_t n) {
         const double p = r->pan->positions[n].position;
         return Cell{
             p == 0 ? QObject::tr("middle")
                    : QObject::tr("%1 %2").arg(std::abs(p)).arg(p < 0 ? QObject::tr("left") : QObject::tr("right")),
             p};
       },
       false,
       Column::stretch,
       "pan"},
      level(QObject::tr("Left to left"), QObject::tr("dB"), 0, 0),
      level(QObject::tr("Left to right"), QObject::tr("dB"), 0, 1)};
  if (r->pan->inputs == 2) {
    columns.push_back(level(QObject::tr("Right to left"), QObject::tr("dB"), 1, 0));
    columns.push_back(level(QObject::tr("Right to right"), QObject::tr("dB"), 1, 1));
  }
  columns.push_back(number_column("fade_level", QObject::tr("Level, dB"),
                                  QObject::tr("Of unlike inputs, in both outputs together"), 2,
                                  [r](size_t n) { return std::optional(r->pan->positions[n].power_db); }));
  table.set_columns(std::move(columns));
  table.set_rows(r->pan->positions.size());
}

void show_crossfade(ResultTable& table, std::shared_ptr<const ProbeReading> r) {
  table.set_columns({{QObject::tr("Sources"),
                      {},
                      [r](size_t n) {
                        const double c = r->crossfade->correlated_db[n].first;
                        return Cell{c == 0   ? QObject::tr("unlike")
                                    : c == 1 ? QObject::tr("alike")
                                    : c < 0  ? QObject::tr("partly opposed")
                                             : QObject::tr("partly alike"),
                                    c};
                      },
                      false,
                      Column::stretch},
                     number_column("correlation", QObject::tr("Correlation"), {}, 2,
                                   [r](size_t n) { return std::optional(r->crossfade->correlated_db[n].first); }),
                     {QObject::tr("Level, dB"), QObject::tr("The greatest departure from even within the fade"),
                      [r](size_t n) {
                        const double db = r->crossfade->correlated_db[n].second;
                        return Cell{number(db, 2),
                                    db,
                                    {},
                                    std::abs(db) < 0.3   ? Role::moss
                                    : std::abs(db) < 1.5 ? Role::gorse
                                                         : Role::rust};
                      },
                      true, 110, "fade_level"}});
  table.set_rows(r->crossfade->correlated_db.size());
}

void show_trim(ResultTable& table, std::shared_ptr<const ProbeReading> r) {
  const auto at = [r](size_t n) -> const TrimReading::Section& { return r->trim->sections[n]; };
  table.set_columns(
      {{QObject::tr("Gain first, then"),
        {},
        [at](size_t n) {
          return Cell{QObject::tr("%1 dB, %2 dB").arg(number(at(n).asked.first_db, 0), number(at(n).asked.then_db, 0)),
                      at(n).asked.first_db};
        },
        false,
        Column::stretch},
       number_column("level", QObject::tr("Tone, dBFS"), {}, 2, [at](size_t n) { return at(n).tone_dbfs; }),
       number_column("level", QObject::tr("Rest, dBFS"), QObject::tr("All but the tone"), 1,
                     [at](size_t n) { return at(n).noise_dbfs; }),
       number_column("thd_n", QObject::tr("THD+N, dB"), {}, 1, [at](size_t n) { return at(n).thd_n_db; }),
       number_column("level", QObject::tr("Silence, dBFS"), QObject::tr("After the tone"), 1,
                     [at](size_t n) { return at(n).silence_dbfs; })});
  table.set_rows(r->trim->sections.size());
}

void show_transit(ResultTable& table, const TransitReading& t) {
  const auto yes = [](bool value) { return value ? QObject::tr("yes") : QObject::tr("no"); };
  std::vector<std::pair<QString, QString>> lines{
      {QObject::tr("Bit-identical"), yes(t.identical)},
      {QObject::tr("Gain"), number(t.gain_db, 3) + " dB"},
      {QObject::tr("Latency"), QObject::tr("%1 samples").arg(number(t.latency_samples, 2))},
      {QObject::tr("Silence"), t.silence_dbfs ? number(*t.silence_dbfs, 1) + " dBFS" : QObject::tr("digital")},
      {QObject::tr("Word length"),
       t.word_bits ? QObject::tr("%1 bit").arg(*t.word_bits) : QObject::tr("floating point")},
      {QObject::tr("Dithered"), yes(t.dithered)},
      {QObject::tr("DC"), number(100 * t.dc, 4) + " %"},
      {QObject::tr("Channels"),
       t.channel_map == std::vector<int>{1, 0} ? QObject::tr("swapped") : QObject::tr("in place")}};
  table.set_columns(
      {{QObject::tr("With every control at rest"), {}, [lines](size_t n) { return Cell{lines[n].first}; }, false, 260},
       {QObject::tr("It comes back"),
        {},
        [lines](size_t n) { return Cell{lines[n].second}; },
        false,
        Column::stretch}});
  table.set_rows(lines.size());
}

}  // namespace

void show_in(ResultTable& table, std::shared_ptr<const ProbeReading> r) {
  if (!r) return table.set_rows(0);
  if (r->gain) return show_gain(table, r);
  if (r->pan) return show_pan(table, r);
  if (r->crossfade) return show_crossfade(table, r);
  if (r->trim) return show_trim(table, r);
  if (r->transit) show_transit(table, *r->transit);
}

void show_side_by_side(ResultTable& table, const std::vector<TestedEngine>& engines, const EngineReadings& readings) {
  const auto label = [engines, &readings](const std::string& kind) {
    return Column{title_of_kind(kind),
                  {},
                  [engines, &readings, kind](size_t n) -> Cell {
                    const RenderState* state = readings.of(engines[n], kind);
                    if (!state) return {QObject::tr("not asked yet"), {}, {}, Role::soft};
                    if (!state->reading)
                      return {state->failure.isEmpty() ? QObject::tr("reading\u2026") : QObject::tr("cannot be read"),
                              {},
                              state->failure,
                              Role::soft};
                    const Severity severity = severity_of(*state->reading);
                    constexpr Role roles[] = {Role::moss, Role::straw, Role::gorse, Role::rust};
                    return {with_minus(engine_label(*state->reading)), double(severity), {}, roles[int(severity)]};
                  },
                  false,
                  Column::stretch};
  };
  std::vector<Column> columns{{QObject::tr("Engine"),
                               {},
                               [engines](size_t n) {
                                 return Cell{QString::fromStdString(engines[n].name), {}, {}, {}, true};
                               },
                               false,
                               120}};
  for (const std::string& kind : engine_kinds()) columns.push_back(label(kind));
  table.set_columns(std::move(columns));
  table.set_rows(engines.size(), [engines](size_t n) { return QString::fromStdString(engines[n].id); });
}

}  // namespace heathmist::app
