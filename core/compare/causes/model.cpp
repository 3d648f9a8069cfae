#include "core/compare/causes/model.hpp"

#include <algorithm>

namespace heathmist::causes {

namespace {

std::vector<GainCurve> read_courses(const Excerpt& e, const Planar& model) {
  std::vector<GainCurve> courses;
  for (int p = 0; p < e.pairs(); ++p) courses.push_back(gain_course(e, model, p));
  return courses;
}

}  // namespace

std::vector<GainCurve> Model::gain_courses(const Excerpt& excerpt) const {
  std::call_once(read_->once, [&] { read_->of = &excerpt, read_->courses = read_courses(excerpt, *this); });
  return read_->of == &excerpt ? read_->courses : read_courses(excerpt, *this);
}

bool has_course_of_all(const Excerpt& e, const Model& model) {
  return !e.whole && !e.course.empty() && is_master(e, model);
}

GainCurve gain_course(const Excerpt& e, const Model& model) {
  if (!has_course_of_all(e, model)) return together(model.gain_courses(e));
  GainCurve curve{e.course_piece, e.course, {}, 0};
  for (size_t k = 0; k < curve.pieces.size(); ++k) {
    curve.middle.push_back((double(k) + 0.5) * double(curve.piece));
    curve.loudest = std::max(curve.loudest, curve.pieces[k].mm);
  }
  return curve;
}

}  // namespace heathmist::causes
