// SPDX-License-Identifier: Apache-2.0
#include "playback/trace.h"

#include <algorithm>
#include <nlohmann/json.hpp>

#include "playback/properties.h"

namespace ruedo {

void Trace::add(Event event) {
    std::function<void(const Event&)> listener;
    {
        std::lock_guard lock(mutex_);
        event.n = ++count_;
        events_.push_back(event);
        if (events_.size() > limit) events_.pop_front();
        listener = listener_;
    }
    if (listener) listener(event);
}
std::vector<Event> Trace::after(std::uint64_t n) const {
    std::lock_guard lock(mutex_);
    auto first = std::partition_point(events_.begin(), events_.end(), [&](auto& e) { return e.n <= n; });
    return {first, events_.end()};
}
std::uint64_t Trace::count() const {
    std::lock_guard lock(mutex_);
    return count_;
}
void Trace::listen(std::function<void(const Event&)> listener) {
    std::lock_guard lock(mutex_);
    listener_ = std::move(listener);
}

nlohmann::json to_json(const Event& e) {
    nlohmann::json j{{"n", e.n},        {"wall_ns", e.wall.ns},   {"media_ns", e.media.ns},
                     {"event", e.name}, {"pictures", e.pictures}, {"sound_ns", e.audio.ns}};
    if (!e.detail.empty()) j["detail"] = e.detail;
    if (e.took) j["took_ns"] = e.took->ns;
    if (e.target) j["target_ns"] = e.target->ns;
    if (e.av_offset) j["av_offset_ns"] = e.av_offset->ns;
    if (e.made) j["made_ns"] = e.made->ns;
    return j;
}

nlohmann::json to_json(const Error& e) {
    return {{"code", std::string(error_code_name(e.code))}, {"sentence", e.sentence}, {"hint", e.hint}};
}

static nlohmann::json to_json(const StreamReport& r, const Counters& counters) {
    nlohmann::json shown = nlohmann::json::array(), decisions = nlohmann::json::array();
    for (std::size_t i = 0; i < r.rungs.size() && i < counters.by_rung.size(); ++i)
        if (counters.by_rung[i] > 0) shown.push_back({r.rungs[i].id, counters.by_rung[i]});
    for (auto& d : r.decisions)
        decisions.push_back({{"wall_ns", d.wall.ns},
                             {"segment", d.segment},
                             {"rung", d.rung},
                             {"why", d.why},
                             {"throughput", std::llround(d.throughput)},
                             {"ahead_ns", d.ahead.ns}});
    return {{"stalls", counters.stalls},        {"stalled_ms", counters.stalled.ms()},
            {"switches", r.switches},           {"mean_bitrate", std::llround(r.mean_bitrate)},
            {"rungs_shown", std::move(shown)},  {"segments_fetched", r.segments_fetched},
            {"bytes_fetched", r.bytes_fetched}, {"wasted_bytes", r.wasted_bytes},
            {"decisions", std::move(decisions)}};
}

nlohmann::json to_json(const PlaybackReport& r, bool virtual_time) {
    auto& s = r.snapshot;
    auto spread = [](const std::optional<Spread>& v, bool with_max) -> nlohmann::json {
        if (!v) return nullptr;
        nlohmann::json j{{"p50", v->p50}, {"p99", v->p99}};
        if (with_max) j["max"] = v->max;
        return j;
    };
    nlohmann::json events = nlohmann::json::array();
    for (auto& e : r.events) events.push_back(to_json(e));
    nlohmann::json report{{"av_offset_ms", spread(r.av_offset_ms, true)},
                          {"pacing_ms", virtual_time ? nlohmann::json(nullptr) : spread(r.pacing_ms, false)},
                          {"first_picture_ms", r.first_frame_ms ? nlohmann::json(*r.first_frame_ms) : nullptr},
                          {"events", std::move(events)},
                          {"error", s.error ? to_json(*s.error) : nullptr}};
    for (auto name : {"state", "intent", "position_ns", "duration_ns", "presented", "dropped", "skipped", "repeated"})
        report[name] = find_property(name)->value(s);
    if (r.stream) report["stream"] = to_json(*r.stream, s.counters);
    return report;
}

namespace {
class NullSink final : public FrameSink {
  public:
    explicit NullSink(Time refresh) : refresh_(refresh) {}
    std::shared_ptr<const RgbImage> prepare(const Frame&) override { return nullptr; }
    void show(std::shared_ptr<const RgbImage>, const Frame&, Time) override {}
    void clear() override {}
    Time refresh() const override { return refresh_; }

  private:
    Time refresh_;
};
}  // namespace
std::shared_ptr<FrameSink> make_null_sink(Time refresh) { return std::make_shared<NullSink>(refresh); }

}  // namespace ruedo
