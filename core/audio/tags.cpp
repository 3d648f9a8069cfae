// Words and pictures through TagLib; ReplayGain 2 as comments.
#include "core/audio/tags.hpp"

#include <fmt/format.h>
#include <taglib/aifffile.h>
#include <taglib/attachedpictureframe.h>
#include <taglib/fileref.h>
#include <taglib/flacfile.h>
#include <taglib/id3v2tag.h>
#include <taglib/mp4file.h>
#include <taglib/mpegfile.h>
#include <taglib/oggfile.h>
#include <taglib/tpropertymap.h>
#include <taglib/wavfile.h>
#include <taglib/xiphcomment.h>

#include <cmath>
#include <cstdlib>

#include "core/audio/clip.hpp"
#include "core/audio/sound_name.hpp"

namespace heathmist {

namespace {

std::string bytes_of(const TagLib::ByteVector& bytes) { return {bytes.data(), bytes.size()}; }
TagLib::ByteVector bytes_of(const std::string& bytes) { return {bytes.data(), unsigned(bytes.size())}; }
TagLib::String text_of(const std::string& text) { return {text, TagLib::String::UTF8}; }

Picture picture_of(const TagLib::FLAC::Picture& p) {
  return {p.mimeType().to8Bit(true), p.description().to8Bit(true), bytes_of(p.data()), int(p.type())};
}

void take_pictures(const TagLib::List<TagLib::FLAC::Picture*>& from, std::vector<Picture>& to) {
  for (const auto* p : from) to.push_back(picture_of(*p));
}

void take_pictures(const TagLib::ID3v2::Tag* tag, std::vector<Picture>& to) {
  if (!tag) return;
  for (const auto* frame : tag->frameList("APIC"))
    if (const auto* p = dynamic_cast<const TagLib::ID3v2::AttachedPictureFrame*>(frame))
      to.push_back({p->mimeType().to8Bit(true), p->description().to8Bit(true), bytes_of(p->picture()), int(p->type())});
}

void take_pictures(const TagLib::MP4::Tag* tag, std::vector<Picture>& to) {
  if (!tag || !tag->contains("covr")) return;
  for (const auto& cover : tag->item("covr").toCoverArtList())
    to.push_back(
        {cover.format() == TagLib::MP4::CoverArt::PNG ? "image/png" : "image/jpeg", "", bytes_of(cover.data()), 3});
}

std::vector<Picture> pictures_of(TagLib::File* file) {
  std::vector<Picture> found;
  if (auto* flac = dynamic_cast<TagLib::FLAC::File*>(file)) take_pictures(flac->pictureList(), found);
  if (auto* mpeg = dynamic_cast<TagLib::MPEG::File*>(file)) take_pictures(mpeg->ID3v2Tag(), found);
  if (auto* wav = dynamic_cast<TagLib::RIFF::WAV::File*>(file)) take_pictures(wav->ID3v2Tag(), found);
  if (auto* aiff = dynamic_cast<TagLib::RIFF::AIFF::File*>(file)) take_pictures(aiff->tag(), found);
  if (auto* mp4 = dynamic_cast<TagLib::MP4::File*>(file)) take_pictures(mp4->tag(), found);
  if (auto* ogg = dynamic_cast<TagLib::Ogg::File*>(file))
    if (auto* xiph = dynamic_cast<TagLib::Ogg::XiphComment*>(ogg->tag())) take_pictures(xiph->pictureList(), found);
  return found;
}

TagLib::PropertyMap properties_of(const Tags& tags) {
  TagLib::PropertyMap map;
  for (const auto& [key, values] : tags.words)
    for (const auto& value : values) map.insert(text_of(key), TagLib::StringList(text_of(value)));
  return map;
}

void put_into_flac(TagLib::FLAC::File& file, const Tags& tags) {
  file.setProperties(properties_of(tags));
  file.removePictures();
  for (const Picture& p : tags.pictures) {
    auto* made = new TagLib::FLAC::Picture;  // the file takes it over
    made->setMimeType(text_of(p.mime));
    made->setDescription(text_of(p.description));
    made->setType(TagLib::FLAC::Picture::Type(p.type));
    made->setData(bytes_of(p.bytes));
    file.addPicture(made);
  }
}

void put_into_wav(TagLib::RIFF::WAV::File& file, const Tags& tags) {
  file.setProperties(properties_of(tags));
  for (const Picture& p : tags.pictures) {
    auto* made = new TagLib::ID3v2::AttachedPictureFrame;  // the tag takes it over
    made->setMimeType(text_of(p.mime));
    made->setDescription(text_of(p.description));
    made->setType(TagLib::ID3v2::AttachedPictureFrame::Type(p.type));
    made->setPicture(bytes_of(p.bytes));
    file.ID3v2Tag()->addFrame(made);
  }
}

LoudnessTags from_comments(const Tags& tags) {
  auto number = [&](const char* key) -> std::optional<double> {
    const auto at = tags.words.find(key);
    return at != tags.words.end() && !at->second.empty() ? std::optional(std::strtod(at->second[0].c_str(), nullptr))
                                                         : std::nullopt;
  };
  auto loudness = [](std::optional<double> gain) { return gain ? std::optional(replay_gain_lufs - *gain) : gain; };
  auto decibels = [](std::optional<double> peak) {
    return peak && *peak > 0 ? std::optional(20 * std::log10(*peak)) : std::nullopt;
  };
  LoudnessTags loud;
  loud.integrated_lufs = loudness(number("REPLAYGAIN_TRACK_GAIN"));
  loud.true_peak_dbtp = decibels(number("REPLAYGAIN_TRACK_PEAK"));
  loud.album_lufs = loudness(number("REPLAYGAIN_ALBUM_GAIN"));
  loud.album_peak_dbtp = decibels(number("REPLAYGAIN_ALBUM_PEAK"));
  return loud;
}

}  // namespace

std::map<std::string, std::string> replay_gain_comments(const LoudnessTags& tags) {
  std::map<std::string, std::string> comments;
  auto gain = [&](const char* key, std::optional<double> lufs) {
    if (lufs) comments[key] = fmt::format("{:.2f} dB", replay_gain_lufs - *lufs);
  };
  auto peak = [&](const char* key, std::optional<double> dbtp) {
    if (dbtp) comments[key] = fmt::format("{:.6f}", std::pow(10.0, *dbtp / 20));
  };
  gain("REPLAYGAIN_TRACK_GAIN", tags.integrated_lufs);
  peak("REPLAYGAIN_TRACK_PEAK", tags.true_peak_dbtp);
  gain("REPLAYGAIN_ALBUM_GAIN", tags.album_lufs);
  peak("REPLAYGAIN_ALBUM_PEAK", tags.album_peak_dbtp);
  if (!comments.empty()) comments["REPLAYGAIN_REFERENCE_LOUDNESS"] = fmt::format("{:.2f} LUFS", replay_gain_lufs);
  return comments;
}

namespace {

Tags tags_of(TagLib::File* file) {
  Tags tags;
  if (!file || !file->isValid()) return tags;
  for (const auto& [key, values] : file->properties())
    for (const auto& value : values) tags.words[key.to8Bit(true)].push_back(value.to8Bit(true));
  tags.pictures = pictures_of(file);
  return tags;
}

}  // namespace

Tags read_tags(const std::filesystem::path& file) {
  const TagLib::FileRef opened(file_behind(file).c_str(), false);
  return opened.isNull() ? Tags{} : tags_of(opened.file());
}

Tags read_tags(const std::filesystem::path& file, bool flac) {
  if (flac) {
    TagLib::FLAC::File opened(file.c_str(), false);
    return tags_of(&opened);
  }
  TagLib::RIFF::WAV::File opened(file.c_str(), false);
  return tags_of(&opened);
}

void write_tags(const std::filesystem::path& file, bool flac, const Tags& tags) {
  bool saved = false;
  if (flac) {
    TagLib::FLAC::File opened(file.c_str(), false);
    if (opened.isValid()) put_into_flac(opened, tags), saved = opened.save();
  } else {
    TagLib::RIFF::WAV::File opened(file.c_str(), false);
    if (opened.isValid()) put_into_wav(opened, tags), saved = opened.save();
  }
  if (!saved) throw InputError(file, "its tags cannot be written; the disk may be full");
}

LoudnessTags read_loudness_tags(const std::filesystem::path& file, bool flac) {
  if (!std::filesystem::exists(file)) throw InputError(file, "its tags cannot be read; check that it is there");
  if (flac) return from_comments(read_tags(file, true));
  const auto bext = read_broadcast_extension(file);
  return bext ? bext->loudness : LoudnessTags{};
}

}  // namespace heathmist
