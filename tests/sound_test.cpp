// SPDX-License-Identifier: Apache-2.0
#include <cmath>

#include "media/codec_headers.h"
#include "support.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
std::vector<float> all_audio(const std::string& name, Time from = {}, Time end = Time::max(), Kind kind = Kind::audio) {
    auto clip = open(name);
    auto reader = value(AudioReader::open(clip, *clip->info().main(kind), CodecRegistry::standard()));
    reader->set_end(end);
    done(reader->seek(from));
    std::vector<float> samples;
    while (auto block = value(reader->next())) {
        CHECK(block->pts == ticks_to_time(time_to_ticks(from, mix_rate) + static_cast<std::int64_t>(samples.size() / 2),
                                          1, mix_rate));
        samples.insert(samples.end(), block->samples.begin(), block->samples.end());
    }
    return samples;
}
/// Where quiet turns loud, in seconds.
std::vector<double> onsets(const std::vector<float>& samples) {
    std::vector<double> list;
    std::size_t quiet = 48'000;
    for (std::size_t i = 0; i < samples.size() / 2; ++i) {
        if (std::abs(samples[2 * i]) > 0.05F) {
            if (quiet > 9600) list.push_back(static_cast<double>(i) / mix_rate);
            quiet = 0;
        } else {
            ++quiet;
        }
    }
    return list;
}
}  // namespace

TEST_CASE("Sound lies where its maker put it: delays cut, gaps filled, edits applied", "[audio]") {
    for (auto& name : playable()) {
        const nlohmann::json* wanted = nullptr;
        for (auto& t : facts(name)["tracks"])
            if (t["type"] == "audio" && !wanted) wanted = &t;
        if (!wanted) continue;
        INFO(name);
        auto found = onsets(all_audio(name));
        auto bursts = (*wanted)["bursts_s"].get<std::vector<double>>();
        // A transport stream need not give the burst at its very start.
        if (name.ends_with(".ts") && found.size() == bursts.size() + 1) found.erase(found.begin());
        REQUIRE(found.size() == bursts.size());
        // The recording's own times jitter by 40 ms; everything else is exact to a millisecond or two. A burst
        // at the very start may lose its first samples to the codec's beginning.
        double tolerance = name.starts_with("recorded") ? 0.045 : 0.002;
        auto decoded = wanted->value("decoded_bursts_s", bursts);
        for (std::size_t i = 0; i < bursts.size(); ++i) {
            // Where a recorder's times stray further, the samples laid end to end say where the burst is.
            auto off = std::min(std::abs(found[i] - bursts[i]), std::abs(found[i] - decoded[i]) + 0.04);
            CHECK(off < (bursts[i] == 0 ? 0.015 : tolerance));
        }
    }
}

namespace {
/// Ticks of sound, one every half second of its own clock, whose stated times run `drift` faster and jitter.
class Drifting final : public Clip {
  public:
    static constexpr int rate = 48000, frames = 960, packets = 1500;
    Drifting(double drift, int jitter_ms) : drift_(drift), jitter_(jitter_ms) {
        Track t;
        t.id = 1, t.kind = Kind::audio, t.codec = Codec::pcm, t.audio = {rate, 1};
        t.config = make_pcm_config({.bits = 16, .container_bytes = 2, .rate = rate, .channels = 1});
        info_.tracks.push_back(t);
        info_.duration = stated(packets), info_.duration_known = true;
    }
    Time stated(int packet) const {
        auto jitter = jitter_ ? (packet * 7919) % (2 * jitter_ + 1) - jitter_ : 0;
        return Time{static_cast<std::int64_t>(packet * 20e6 * (1 + drift_))} + 1_ms * (packet ? jitter : 0);
    }
    std::unique_ptr<TrackReader> reader(std::uint64_t) override { return std::make_unique<Reader>(*this); }

  private:
    class Reader final : public TrackReader {
      public:
        explicit Reader(const Drifting& clip) : clip_(clip) {}
        Result<bool> next(PacketHead& head) override {
            if (++at_ >= packets) return false;
            head = {};
            head.pts = clip_.stated(at_), head.duration = 20_ms, head.keyframe = true, head.size = frames * 2;
            return true;
        }
        Status read(Bytes& out) override {
            out.assign(frames * 2, 0);
            if (at_ % 25 == 0) out[1] = 0x40;  // a tick on the packet's first sample
            return {};
        }
        Status seek(Time t) override {
            at_ = -1;
            while (at_ + 1 < packets && clip_.stated(at_ + 1) <= t) ++at_;
            at_ = std::max(at_, 0) - 1;
            return {};
        }

      private:
        const Drifting& clip_;
        int at_ = -1;
    };
    double drift_;
    int jitter_;
};
}  // namespace

TEST_CASE("Sound whose times drift or jitter stays where its times say, and is not cut up for jitter alone",
          "[audio]") {
    for (auto [drift, jitter] : {std::pair{0.0, 0}, {0.0, 15}, {0.0005, 0}, {0.004, 0}, {-0.004, 0}, {0.004, 15}}) {
        INFO("drift " << drift << ", jitter " << jitter << " ms");
        auto clip = std::make_shared<Drifting>(drift, jitter);
        auto reader = value(AudioReader::open(clip, clip->info().tracks[0], CodecRegistry::standard()));
        std::vector<float> heard;
        while (auto block = value(reader->next()))
            heard.insert(heard.end(), block->samples.begin(), block->samples.end());
        int ticks = 0;
        double worst = 0;
        std::vector<double> at;
        for (std::size_t i = 0; i < heard.size(); i += 2)
            if (heard[i] > 0.2F) {
                auto time = static_cast<double>(i / 2) / mix_rate;
                worst = std::max(worst, std::abs(time - clip->stated(ticks++ * 25).seconds()));
                at.push_back(time);
            }
        CHECK(ticks >= 57);  // a tick or two may fall into what is left out when sound runs behind its times
        if (ticks == 60) CHECK(worst < 0.02 + 0.001 * jitter + 0.012);
        if (drift == 0)
            for (std::size_t i = 1; i < at.size(); ++i) CHECK(std::abs(at[i] - at[i - 1] - 0.5) < 1e-4);
    }
}

TEST_CASE("After a seek the same samples come as without one", "[audio][seek]") {
    std::mt19937 random(12);
    for (auto name : {"h264_high_aac.mp4", "vp9_opus.webm", "vp8_vorbis.webm", "ebml_lacing_blockgroups.mkv",
                      "edit_empty_audio_1s.mp4", "frag_no_sidx.mp4", "theora_vorbis.ogv", "audio_opus.ogg",
                      "h264_aac.ts", "mjpeg_pcm.avi", "audio.flac", "audio_info.mp3", "audio_vbr_no_info.mp3"}) {
        auto whole = all_audio(name);
        for (int i = 0; i < 8; ++i) {
            Time t{static_cast<std::int64_t>(random()) % 5'600'000'000};
            auto part = all_audio(name, t);
            auto at = static_cast<std::size_t>(time_to_ticks(t, mix_rate)) * 2;
            INFO(name << " from " << t.ns);
            REQUIRE(part.size() + at + 64 >= whole.size());
            // Matroska rounds to milliseconds, and Vorbis packets lie on no grid of them: there a shift of less
            // than one remains. Everywhere else the samples are the very same.
            int reach = name == std::string("vp8_vorbis.webm") ? 30 : 0;
            double best = 1e9;
            for (int shift = -reach; shift <= reach; ++shift) {
                double difference = 0, energy = 1e-9;
                for (std::size_t k = 64; k < std::min<std::size_t>(part.size(), 96'000); ++k) {
                    auto there = static_cast<std::ptrdiff_t>(at + k) + 2 * shift;
                    if (there < 0 || there >= static_cast<std::ptrdiff_t>(whole.size())) continue;
                    difference += std::pow(part[k] - whole[static_cast<std::size_t>(there)], 2);
                    energy += std::pow(whole[static_cast<std::size_t>(there)], 2);
                }
                best = std::min(best, difference / energy);
            }
            CHECK(best < 0.01);
        }
    }
}

TEST_CASE("Silence fills up to the end that is asked for, and nothing comes after it", "[audio]") {
    CHECK(all_audio("h264_high_aac.mp4", {}, 8_s).size() == 8U * 48000 * 2);
    CHECK(all_audio("h264_high_aac.mp4", {}, 2500_ms).size() == 120'000U * 2);
    CHECK(all_audio("h264_high_aac.mp4", 3_s, 2_s).empty());
}

TEST_CASE("Volume follows the ear: silent at 0, whole at 1, never falling between", "[audio]") {
    CHECK(gain_of(0) == 0);
    CHECK(gain_of(1) == 1);
    CHECK(gain_of(7) == 1);
    for (int i = 1; i <= 100; ++i) CHECK(gain_of(i / 100.0) > gain_of((i - 1) / 100.0));
    CHECK(gain_of(0.5) < 0.2F);
}

TEST_CASE("More channels come down to two without losing any, save the lowest", "[audio]") {
    for (int channels = 1; channels <= 8; ++channels)
        for (int k = 0; k < channels; ++k) {
            AudioBlock in{{}, 48000, channels, std::vector<float>(static_cast<std::size_t>(channels))};
            in.samples[static_cast<std::size_t>(k)] = 1;
            std::vector<float> out;
            remix(in, 2, out);
            bool low = channels >= 6 && k == 3;
            INFO(channels << " channels, number " << k);
            CHECK((std::abs(out[0]) + std::abs(out[1]) > 0.5F) == !low);
        }
}

TEST_CASE("Speed changes length, not pitch", "[audio]") {
    std::vector<float> tone(48000 * 4);
    for (std::size_t i = 0; i < tone.size() / 2; ++i)
        tone[2 * i] = tone[2 * i + 1] =
            static_cast<float>(0.5 * std::sin(2 * 3.14159265 * 440 * static_cast<double>(i) / 48000));
    for (double rate : {0.25, 0.5, 0.8, 1.25, 2.0, 4.0}) {
        TimeStretcher stretcher(rate);
        std::vector<float> out;
        for (std::size_t at = 0; at < tone.size(); at += 4800)
            stretcher.process(std::span(tone).subspan(at, std::min<std::size_t>(4800, tone.size() - at)), out);
        stretcher.flush(out);
        double ratio = static_cast<double>(tone.size()) / rate / static_cast<double>(out.size());
        INFO("rate " << rate);
        CHECK(ratio > 0.93);
        CHECK(ratio < 1.07);
        // Zero crossings in the middle of the sound tell its pitch.
        int crossings = 0;
        std::size_t from = out.size() / 4 / 2 * 2, to = out.size() * 3 / 4;
        for (std::size_t i = from + 2; i < to; i += 2) crossings += (out[i] >= 0) != (out[i - 2] >= 0);
        double pitch = crossings / 2.0 / (static_cast<double>(to - from) / 2 / 48000);
        CHECK(std::abs(pitch - 440) < 22);
    }
}
