// SPDX-License-Identifier: Apache-2.0
#include "sound/sound.h"

#include <fmt/format.h>
#include <soundtouch/SoundTouch.h>
#include <soxr.h>

#include <algorithm>
#include <cmath>

namespace ruedo {

float gain_of(double volume) {
    auto v = std::clamp(volume, 0.0, 1.0);
    return static_cast<float>(v * v * v);
}

namespace {
enum class Seat { left, right, centre, low, back_left, back_right, side_left, side_right, back };
using enum Seat;
/// Where the channels of so many sit.
std::span<const Seat> seats(int channels) {
    static const std::array<std::vector<Seat>, 9> all{
        {{},
         {centre},
         {left, right},
         {left, right, centre},
         {left, right, back_left, back_right},
         {left, right, centre, back_left, back_right},
         {left, right, centre, low, back_left, back_right},
         {left, right, centre, low, back, side_left, side_right},
         {left, right, centre, low, back_left, back_right, side_left, side_right}}};
    return all[static_cast<std::size_t>(std::clamp(channels, 1, 8))];
}
/// How much of what sits at `from` is heard at `to`, of the channels that are there.
float weight(Seat from, Seat to, std::span<const Seat> there, bool alone) {
    constexpr float side = 0.70710678F;
    auto has = [&](Seat s) { return std::find(there.begin(), there.end(), s) != there.end(); };
    if (from == to) return 1;
    if (from == low || has(from)) return 0;
    bool mono = !has(left);
    switch (from) {
        case left:
        case right:
            return side;
        case centre:
            // One channel alone is heard as loud from two.
            return to == left || to == right ? (alone ? 1 : side) : 0;
        case back_left:
        case side_left:
        case back_right:
        case side_right: {
            bool on_left = from == back_left || from == side_left;
            auto kin =
                on_left ? (from == back_left ? side_left : back_left) : (from == back_right ? side_right : back_right);
            if (has(kin)) return to == kin ? side : 0;
            return mono ? 0.5F : to == (on_left ? left : right) ? side : 0;
        }
        default:
            if (has(back_left)) return to == back_left || to == back_right ? side : 0;
            if (has(side_left)) return to == side_left || to == side_right ? side : 0;
            return mono || to == left || to == right ? 0.5F : 0;
    }
}
}  // namespace

void remix(const AudioBlock& in, int channels, std::vector<float>& out) {
    auto n = in.frames();
    auto wide = static_cast<std::size_t>(in.channels), to = static_cast<std::size_t>(channels);
    if (wide == to) {
        out = in.samples;
        return;
    }
    auto from = seats(in.channels), there = seats(channels);
    std::array<std::array<float, 8>, 8> matrix{};
    for (std::size_t k = 0; k < to; ++k)
        for (std::size_t i = 0; i < from.size(); ++i) matrix[k][i] = weight(from[i], there[k], there, in.channels == 1);
    out.assign(n * to, 0);
    for (std::size_t f = 0; f < n; ++f)
        for (std::size_t k = 0; k < to; ++k)
            for (std::size_t i = 0; i < from.size(); ++i) out[f * to + k] += in.samples[f * wide + i] * matrix[k][i];
}

struct AudioReader::Resampler {
    Resampler(int from, AudioSpec to) : channels(static_cast<std::size_t>(to.channels)) {
        auto io = soxr_io_spec(SOXR_FLOAT32_I, SOXR_FLOAT32_I);
        auto quality = soxr_quality_spec(SOXR_HQ, 0);
        soxr = soxr_create(from, to.rate, static_cast<unsigned>(to.channels), nullptr, &io, &quality, nullptr);
        ratio = static_cast<double>(to.rate) / from;
    }
    ~Resampler() { soxr_delete(soxr); }
    void process(const float* in, std::size_t frames, std::deque<float>& out) {
        std::vector<float> buffer((static_cast<std::size_t>(static_cast<double>(frames) * ratio) + 4096) * channels);
        for (;;) {
            std::size_t used = 0, made = 0;
            soxr_process(soxr, in, frames, &used, buffer.data(), buffer.size() / channels, &made);
            out.insert(out.end(), buffer.begin(), buffer.begin() + static_cast<std::ptrdiff_t>(made * channels));
            if (in) in += used * channels, frames -= used;
            if (made == 0 || (in && frames == 0)) break;
        }
    }
    soxr_t soxr;
    double ratio;
    std::size_t channels;
};

AudioReader::AudioReader() = default;
AudioReader::~AudioReader() = default;
AudioReader::AudioReader(AudioReader&&) noexcept = default;

Result<std::unique_ptr<AudioReader>> AudioReader::open(std::shared_ptr<Clip> clip, const Track& track,
                                                       CodecRegistry& codecs, AudioSpec form) {
    std::unique_ptr<AudioReader> r(new AudioReader);
    RUEDO_TRY(r->decoder_, codecs.audio_decoder(track));
    r->track_ = track;
    r->form_ = form;
    r->codecs_ = &codecs;
    r->reader_ = clip->reader(track.id);
    r->clip_ = std::move(clip);
    r->rate_ = track.audio.rate > 0 ? track.audio.rate : mix_rate;
    RUEDO_TRY_DO(r->seek({}));
    return r;
}

Status AudioReader::seek(Time t) {
    t = std::max(t, Time{});
    RUEDO_TRY_DO(reader_->seek(t - track_.preroll));
    decoder_->reset();
    config_.reset();
    resampler_.reset();
    if (rate_ != form_.rate) resampler_ = std::make_unique<Resampler>(rate_, form_);
    anchored_ = finished_ = flushed_ = false;
    silence_ = 0;
    held_.clear();
    out_.clear();
    cursor_ = time_to_ticks(t, static_cast<std::uint64_t>(rate_));
    out_position_ = time_to_ticks(t, static_cast<std::uint64_t>(form_.rate));
    return {};
}

void AudioReader::push(std::vector<float> samples) {
    if (resampler_)
        resampler_->process(samples.data(), samples.size() / static_cast<std::size_t>(form_.channels), out_);
    else
        out_.insert(out_.end(), samples.begin(), samples.end());
}

/// Lays one decoded block at its place: `cursor_` is where the next sample belongs.
void AudioReader::place(AudioBlock& block, Time pts, Time trim_end) {
    auto rate = static_cast<std::uint64_t>(rate_);
    auto stated = time_to_ticks(pts, rate);
    // Container times are rounded and jitter, so samples are laid end to end; but where they are clearly apart, or
    // drift away from their times for about a second, times count: pictures keep to them too.
    auto frames = static_cast<std::int64_t>(block.frames());
    auto apart = static_cast<double>(stated - position_);
    drift_ += (apart - drift_) * std::min(1.0, static_cast<double>(frames) / rate_);
    if (!anchored_ || std::abs(apart) > rate_ * 0.06)
        position_ = stated, drift_ = 0;
    else if (std::abs(drift_) > rate_ * 0.02)
        position_ += std::llround(drift_), drift_ = 0;
    anchored_ = true;
    auto first = position_, last = position_ + frames - time_to_ticks(trim_end, rate);
    position_ += frames;
    auto low = std::max(cursor_, time_to_ticks(track_.start, rate));
    auto high = track_.end == Time::max() ? INT64_MAX : time_to_ticks(track_.end, rate);
    auto from = std::max(first, low), to = std::min(last, high);
    if (from >= to) return;
    if (from > cursor_) silence_ = from - cursor_;
    std::vector<float> mixed;
    remix(block, form_.channels, mixed);
    held_.assign(mixed.begin() + form_.channels * (from - first), mixed.begin() + form_.channels * (to - first));
    cursor_ = to;
}

Result<bool> AudioReader::decode_more() {
    PacketHead head;
    ReadBudget budget(ReadBudget::of_a_packet);
    for (bool past_end = false;;) {
        bool more = false;
        if (!past_end) {
            RUEDO_TRY(more, reader_->next(head));
        }
        if (more) {
            auto read = reader_->read(data_);
            if (!read && read.error().code != ErrorCode::truncated) return std::unexpected(read.error());
            more = read.has_value();
            if (!more) cut_ = read.error();
        }
        if (!more) {
            finished_ = true;
            auto end = end_ == Time::max() ? INT64_MIN : time_to_ticks(end_, static_cast<std::uint64_t>(rate_));
            if (end > cursor_) silence_ = end - cursor_, cursor_ = end;
            return silence_ > 0;
        }
        if (ReadScope::given_up())
            return std::unexpected(ReadScope::stopped(fmt::format("“{}” was still being decoded", clip_->info().name)));
        seen_.see(head);
        if (head.config != config_) {
            // Another recording of a chain begins: it lies where its own times say.
            config_ = head.config;
            anchored_ = false;
            if (config_ && *config_ != track_.config) {
                track_.config = *config_;
                RUEDO_TRY(decoder_, codecs_->audio_decoder(track_));
            } else {
                decoder_->reset();
            }
        }
        AudioBlock block;
        if (auto done = decoder_->decode(data_, block); !done) {
            ++damaged_;
            anchored_ = false;  // what follows is placed by its own time
            continue;
        }
        if (block.samples.empty()) {
            // A decoder that gives nothing for its first packet has passed its time all the same.
            if (!anchored_ && head.duration.ns > 0) {
                position_ = time_to_ticks(head.pts, static_cast<std::uint64_t>(rate_)) +
                            time_to_ticks(head.duration, static_cast<std::uint64_t>(rate_));
                anchored_ = true, drift_ = 0;
            }
            continue;
        }
        if (block.rate > 0 && block.rate != rate_) {
            // The stream knows its rate better than the container; what was converted so far stays.
            auto at = ticks_to_time(cursor_, 1, static_cast<std::uint64_t>(rate_));
            rate_ = block.rate;
            cursor_ = time_to_ticks(at, static_cast<std::uint64_t>(rate_));
            resampler_ = rate_ == form_.rate ? nullptr : std::make_unique<Resampler>(rate_, form_);
        }
        place(block, head.pts, head.trim_end);
        if (!held_.empty()) return true;
        past_end = head.pts >= track_.end;
    }
}

/// Until so many frames are ready to be given out, or there are no more.
Status AudioReader::fill(std::size_t frames) {
    auto rate = static_cast<std::uint64_t>(form_.rate);
    auto wide = static_cast<std::size_t>(form_.channels);
    auto end_frame = end_ == Time::max() ? INT64_MAX : time_to_ticks(end_, rate);
    while (out_.size() < frames * wide) {
        if (silence_ > 0) {
            auto n = std::min<std::int64_t>(silence_, rate_ / 25);
            silence_ -= n;
            push(std::vector<float>(static_cast<std::size_t>(n) * wide));
        } else if (!held_.empty()) {
            push(std::exchange(held_, {}));
        } else if (finished_) {
            if (resampler_ && !std::exchange(flushed_, true)) resampler_->process(nullptr, 0, out_);
            break;
        } else if (out_position_ + static_cast<std::int64_t>(out_.size() / wide) >= end_frame) {
            break;
        } else {
            RUEDO_TRY(bool more, decode_more());
            if (!more && held_.empty()) finished_ = true;
        }
    }
    return {};
}

Status AudioReader::read_ahead(Time t, Time much) {
    RUEDO_TRY_DO(seek(t));
    return fill(static_cast<std::size_t>(time_to_ticks(much, static_cast<std::uint64_t>(form_.rate))));
}

Result<std::optional<AudioBlock>> AudioReader::next() {
    auto rate = static_cast<std::uint64_t>(form_.rate);
    auto wide = static_cast<std::size_t>(form_.channels);
    auto block_frames = static_cast<std::size_t>(rate / 25);
    auto end_frame = end_ == Time::max() ? INT64_MAX : time_to_ticks(end_, rate);
    RUEDO_TRY_DO(fill(block_frames));
    auto n = std::min<std::int64_t>(static_cast<std::int64_t>(std::min(out_.size() / wide, block_frames)),
                                    end_frame - out_position_);
    if (n <= 0) return std::nullopt;
    AudioBlock block;
    block.pts = ticks_to_time(out_position_, 1, rate);
    block.rate = form_.rate, block.channels = form_.channels;
    block.samples.assign(out_.begin(), out_.begin() + n * form_.channels);
    out_.erase(out_.begin(), out_.begin() + n * form_.channels);
    out_position_ += n;
    return block;
}

struct TimeStretcher::Impl {
    soundtouch::SoundTouch touch;
};
TimeStretcher::TimeStretcher(double rate) : impl_(std::make_unique<Impl>()) {
    impl_->touch.setSampleRate(mix_rate);
    impl_->touch.setChannels(mix_channels);
    impl_->touch.setTempo(std::clamp(rate, 0.25, 4.0));
}
TimeStretcher::~TimeStretcher() = default;
namespace {
void receive(soundtouch::SoundTouch& touch, std::vector<float>& out) {
    std::array<float, 8192> buffer;
    while (auto n = touch.receiveSamples(buffer.data(), static_cast<unsigned>(buffer.size() / 2)))
        out.insert(out.end(), buffer.begin(), buffer.begin() + static_cast<std::ptrdiff_t>(n) * 2);
}
}  // namespace
void TimeStretcher::process(std::span<const float> in, std::vector<float>& out) {
    impl_->touch.putSamples(in.data(), static_cast<unsigned>(in.size() / 2));
    receive(impl_->touch, out);
}
void TimeStretcher::flush(std::vector<float>& out) {
    impl_->touch.flush();
    receive(impl_->touch, out);
}

namespace {
Bytes wav_header(std::uint64_t bytes) {
    ByteWriter w;
    auto n = std::min<std::uint64_t>(bytes, UINT32_MAX - 36);
    w.text("RIFF")
        .le(36 + n, 4)
        .text("WAVEfmt ")
        .le(16, 4)
        .le(1, 2)
        .le(mix_channels, 2)
        .le(mix_rate, 4)
        .le(mix_rate * 4, 4)
        .le(4, 2)
        .le(16, 2)
        .text("data")
        .le(n, 4);
    return w.bytes;
}
}  // namespace
Result<WavWriter> WavWriter::create(const std::filesystem::path& path, bool replace) {
    RUEDO_TRY(auto file, FileWriter::create(path, replacing(replace)));
    RUEDO_TRY_DO(file.write(wav_header(0)));
    return WavWriter(std::move(file));
}
Status WavWriter::write(std::span<const float> samples) {
    ByteWriter w;
    w.bytes.reserve(samples.size() * 2);
    for (auto v : samples)
        w.le(static_cast<std::uint16_t>(static_cast<std::int16_t>(std::lrint(std::clamp(v, -1.0F, 1.0F) * 32767))), 2);
    bytes_ += w.size();
    return file_.write(w.bytes);
}
Status WavWriter::finish() {
    RUEDO_TRY_DO(file_.write_at(0, wav_header(bytes_)));
    return file_.commit();
}

}  // namespace ruedo
