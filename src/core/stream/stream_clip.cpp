// SPDX-License-Identifier: Apache-2.0
// A stream as a clip, and its readers, which go from segment to segment.
#include <fmt/format.h>

#include "container/container.h"
#include "io/transfer.h"
#include "stream/stream.h"
#include "text/cues.h"

namespace ruedo::stream {
namespace {

/// One track through the segments of a track group.
class SegmentReader : public TrackReader {
  public:
    SegmentReader(std::shared_ptr<SegmentFetcher> fetcher, std::size_t track_group, Kind kind)
        : fetcher_(std::move(fetcher)), track_group_(track_group), kind_(kind) {}

    Result<bool> next(PacketHead& head) override {
        for (;;) {
            if (!inner_) {
                RUEDO_TRY(auto loaded,
                          begun_ ? fetcher_->after(track_group_, *loaded_) : fetcher_->loaded(track_group_, Time{}));
                if (!loaded) return false;
                enter(std::move(loaded));
                if (!inner_) continue;
            }
            RUEDO_TRY(bool more, inner_->next(head));
            if (!more) {
                inner_.reset();
                continue;
            }
            place(head);
            // Where rungs do not begin together, what has been given is not given again; nor can it begin half-way.
            if (waits_for_key_ && !head.keyframe) continue;
            waits_for_key_ = false;
            if (kind_ == Kind::audio && head.pts + head.duration <= given_to_) continue;
            given_to_ = std::max(given_to_, head.pts + head.duration);
            return true;
        }
    }
    Status read(Bytes& out) override { return inner_->read(out); }
    Status seek(Time t) override {
        t = std::max(t, Time{});
        given_to_ = {INT64_MIN};
        waits_for_key_ = false;
        RUEDO_TRY(auto loaded, fetcher_->loaded(track_group_, t));
        if (!loaded) {
            auto end = fetcher_->window().to;
            RUEDO_TRY(loaded, fetcher_->loaded(track_group_, std::max(Time{}, std::min(t, end) - 1_ms * 50)));
        }
        // Its own beginning may lie a little after what the list says; then the one before holds the place.
        for (int back = 0; loaded; ++back) {
            enter(loaded);
            if (inner_) {
                RUEDO_TRY_DO(inner_->seek(t - loaded->shift));
                PacketHead first;
                RUEDO_TRY(bool any, inner_->next(first));
                if (any && (first.pts + loaded->shift <= t || loaded->segment.start.ns <= 0 || back == 2)) {
                    RUEDO_TRY_DO(inner_->seek(t - loaded->shift));
                    return {};
                }
            }
            auto start = loaded->segment.start;
            if (start.ns <= 0 || back == 2) return {};
            RUEDO_TRY(auto before, fetcher_->loaded(track_group_, start - 50_ms));
            if (!before || before->segment.start >= start) return {};
            loaded = std::move(before);
        }
        return {};
    }

  private:
    void enter(std::shared_ptr<LoadedSegment> loaded) {
        bool other = loaded_ && loaded_->rendition != loaded->rendition;
        bool breaks = loaded_ && loaded_->segment.discontinuity != loaded->segment.discontinuity;
        loaded_ = std::move(loaded);
        begun_ = true;
        inner_.reset();
        if (!loaded_->clip) return;  // missing for good
        auto* track = loaded_->clip->info().main(kind_);
        if (!track) return;
        inner_ = loaded_->clip->reader(track->id);
        // The same header again, on the same clock, is nothing new: a decoder goes on as if there were no segments.
        auto& config = kind_ == Kind::video ? loaded_->video_config : loaded_->audio_config;
        if (breaks || !config_ || !config || *config_ != *config) config_ = config;
        waits_for_key_ = kind_ == Kind::video && other;
    }
    void place(PacketHead& head) const {
        head.pts += loaded_->shift;
        if (head.dts) *head.dts += loaded_->shift;
        head.config = config_;
        head.offset.reset();
        head.variant = static_cast<std::uint32_t>(loaded_->rendition + 1);
    }
    std::shared_ptr<SegmentFetcher> fetcher_;
    std::size_t track_group_;
    Kind kind_;
    std::shared_ptr<LoadedSegment> loaded_;
    std::unique_ptr<TrackReader> inner_;
    std::shared_ptr<const Bytes> config_;
    Time given_to_{INT64_MIN};
    bool begun_ = false, waits_for_key_ = false;
};

/// Captions in segments of their own: WebVTT files, whose times are tied to those of the pictures (RFC 8216
/// clause 3.5).
class CaptionReader final : public TrackReader {
  public:
    CaptionReader(std::shared_ptr<SegmentFetcher> fetcher, std::size_t track_group)
        : fetcher_(std::move(fetcher)), track_group_(track_group) {}
    Result<bool> next(PacketHead& head) override {
        for (;;) {
            if (at_ < cues_.size()) {
                auto& cue = cues_[at_++];
                auto text = cue_text(cue, true);
                // One that goes on into the next segment stands in both.
                if (!seen_.insert({cue.start, text}).second) continue;
                if (seen_.size() > 512) seen_.erase(seen_.begin());
                head = {};
                head.pts = cue.start, head.duration = cue.end - cue.start, head.keyframe = true;
                text = "\n" + cue_settings(cue) + "\n" + text;  // a name, which it has none of, settings, the text
                data_.assign(text.begin(), text.end());
                head.size = data_.size();
                return true;
            }
            RUEDO_TRY(auto loaded,
                      loaded_ ? fetcher_->after(track_group_, *loaded_) : fetcher_->loaded(track_group_, place_));
            if (!loaded) return false;
            enter(std::move(loaded));
        }
    }
    Status read(Bytes& out) override {
        out = data_;
        return {};
    }
    Status seek(Time t) override {
        loaded_.reset(), cues_.clear(), seen_.clear(), at_ = 0, place_ = t;
        RUEDO_TRY(auto loaded, fetcher_->loaded(track_group_, t));
        if (!loaded) return {};
        enter(std::move(loaded));
        while (at_ < cues_.size() && cues_[at_].end <= t) ++at_;
        return {};
    }

  private:
    void enter(std::shared_ptr<LoadedSegment> loaded) {
        loaded_ = std::move(loaded);
        cues_.clear(), at_ = 0;
        auto& text = loaded_->text;
        auto parsed = parse_captions({reinterpret_cast<const std::uint8_t*>(text.data()), text.size()}, "captions");
        if (!parsed) return;  // a segment without captions may be next to nothing
        cues_ = std::move(parsed->list);
        auto by = shift();
        for (auto& c : cues_) c.start += by, c.end += by;
    }
    Time shift() const {
        auto zero = fetcher_->clock(loaded_->segment.discontinuity).value_or(Time{});
        auto at = loaded_->text.find("X-TIMESTAMP-MAP=");
        if (at == std::string::npos) return zero.ns == 0 ? Time{} : -zero;
        auto line = std::string_view(loaded_->text).substr(at + 16);
        line = line.substr(0, line.find_first_of("\r\n"));
        std::int64_t ticks = 0;
        Time local{};
        while (!line.empty()) {
            auto part = line.substr(0, line.find(','));
            line.remove_prefix(std::min(line.size(), part.size() + 1));
            if (part.starts_with("MPEGTS:")) ticks = std::atoll(std::string(part.substr(7)).c_str());
            if (part.starts_with("LOCAL:")) {
                auto stated = std::string(part.substr(6));
                if (std::count(stated.begin(), stated.end(), ':') == 1) stated = "0:" + stated;
                local = parse_time(stated).value_or(Time{});
            }
        }
        auto from_zero = ticks_near(ticks - time_to_ticks(zero, 90000), time_to_ticks(loaded_->segment.start, 90000));
        return ticks_to_time(from_zero, 1, 90000) - local;
    }
    std::shared_ptr<SegmentFetcher> fetcher_;
    std::size_t track_group_;
    std::shared_ptr<LoadedSegment> loaded_;
    Time place_{};
    std::vector<Cue> cues_;
    std::size_t at_ = 0;
    std::set<std::pair<Time, std::string>> seen_;
    Bytes data_;
};

class StreamClip final : public Clip {
  public:
    Status open(const std::string& address, Plan plan, const StreamOptions& options) {
        kind_ = plan.kind;
        auto link = is_address(address) ? transfer::host_of(address) : std::string();
        plan_ = plan;
        fetcher_ = std::make_shared<SegmentFetcher>(std::move(plan.track_groups), link, options);
        RUEDO_TRY(auto list, fetcher_->list(0));
        auto& rungs = plan_.track_groups[0].rungs;
        if (!options.rung.empty() &&
            std::none_of(rungs.begin(), rungs.end(), [&](auto& r) { return r.id == options.rung; })) {
            std::string names;
            for (auto& r : rungs) names += (names.empty() ? "" : ", ") + r.id;
            return fail(ErrorCode::not_found, fmt::format("There is no rung “{}”.", options.rung),
                        fmt::format("There are {}.", names));
        }
        info_.container = kind_;
        info_.name = transfer::last_part(address);
        info_.live = !list.ended;
        info_.duration = list.ended ? list.end() : Time{};
        info_.duration_known = list.ended;
        hold_back_ = list.hold_back.value_or(list.target * 3);
        auto edge = std::max(list.segments.front().start, list.end() - hold_back_);
        begins_ = info_.live && !list.grows ? edge : list.segments.front().start;
        auto begin = plan.begin ? plan.begin : list.begin;
        if (begin) begins_ = begin->ns < 0 ? list.end() + *begin : list.segments.front().start + *begin;
        if (options.start) begins_ = *options.start;
        if (options.at_edge && info_.live) begins_ = edge;
        begins_ = std::clamp(begins_, list.segments.front().start, list.end() - 1_ms);
        for (auto& s : list.segments)
            if (s.key && encryption_ == "none") {
                bool known = s.key->method == Key::Method::aes_128;
                encryption_ = known ? "aes-128" : "unsupported";
                if (known && transfer::lower(s.key->address).starts_with("http://"))
                    info_.findings.push_back({"clear-key",
                                              fmt::format("The key to “{}” is sent in clear text, so the encryption "
                                                          "keeps nobody out.",
                                                          info_.name),
                                              "Serve keys over https."});
            }
        if (list.too_long > 0)
            info_.findings.push_back(
                {"too-long",
                 fmt::format("{} segments are longer than the target duration of {:.0f} s, the first of them “{}”.",
                             list.too_long, list.target.seconds(), list.first_too_long),
                 "State the length of the longest as the target duration."});
        info_.findings.insert(info_.findings.end(), plan_.findings.begin(), plan_.findings.end());
        return find_tracks();
    }

    std::unique_ptr<TrackReader> reader(std::uint64_t id) override {
        auto& place = places_.at(id);
        if (place.kind == Kind::text) return std::make_unique<CaptionReader>(fetcher_, place.track_group);
        return std::make_unique<SegmentReader>(fetcher_, place.track_group, place.kind);
    }
    std::optional<TimeRange> seekable() const override {
        if (!info_.live) return Clip::seekable();
        auto window = fetcher_->window();
        if (window.to <= window.from) return std::nullopt;
        return window;
    }
    std::optional<Edge> edge() const override {
        return info_.live ? std::optional(Edge{fetcher_->edge(), hold_back_}) : std::nullopt;
    }
    const Track* keyframes(std::uint64_t id) const override { return id == 1 && keyframes_ ? &*keyframes_ : nullptr; }
    std::optional<TimeRange> buffered(const std::vector<Track>& tracks, Time position) override {
        std::set<std::size_t> track_groups;
        for (auto& t : tracks)
            if (auto it = places_.find(t.id); it != places_.end()) track_groups.insert(it->second.track_group);
        fetcher_->playing_at(position);
        return fetcher_->here(track_groups, position);
    }
    std::optional<Fetched> fetched() const override { return Fetched{fetcher_->received(), std::nullopt}; }
    std::optional<Time> begins() const override { return begins_; }
    std::optional<StreamReport> stream() const override {
        auto r = fetcher_->report();
        r.kind = kind_;
        r.encrypted = encryption_;
        for (auto& s : plan_.audio_tracks) r.audio_tracks.push_back(s.language.empty() ? s.name : s.language);
        for (auto& s : plan_.texts) r.texts.push_back(s.language.empty() ? s.name : s.language);
        return r;
    }
    Status survey() override { return fetcher_->list_all(0); }
    std::vector<ClipNews> news() override { return fetcher_->news(); }
    void shown_at(int width, int height) override { fetcher_->shown_at(width, height); }

  private:
    struct Place {
        std::size_t track_group;
        Kind kind;
    };
    void add(Track track, std::uint64_t id, Place place) {
        track.id = id;
        track.start = Time{};
        track.end = Time::max();
        places_.emplace(id, place);
        info_.tracks.push_back(std::move(track));
    }
    Status find_tracks() {
        RUEDO_TRY(auto first, fetcher_->loaded(0, begins_));
        if (!first || !first->clip)
            return fail(ErrorCode::truncated, fmt::format("“{}” has no segment to begin with.", info_.name),
                        "Try it again.");
        info_.zero = first->clip->info().zero;
        auto& rungs = plan_.track_groups[0].rungs;
        auto* pictures = first->clip->info().main(Kind::video);
        if (!pictures)  // one that does not play says why
            for (auto& t : first->clip->info().tracks)
                if (t.kind == Kind::video) pictures = &t;
        if (pictures) {
            auto track = *pictures;
            track.several_sizes = rungs.size() > 1;
            for (auto& r : rungs)
                if (r.width > track.video.width && !track.video.rotation && r.height > 0)
                    track.video.width = r.width, track.video.height = r.height;
            track.is_default = true;
            if (plan_.keyframes) {
                keyframes_ = track;
                keyframes_->id = keyframes_id, keyframes_->several_sizes = true;
                keyframes_->start = Time{}, keyframes_->end = Time::max();
                places_.emplace(keyframes_id, Place{*plan_.keyframes, Kind::video});
            }
            add(std::move(track), 1, {0, Kind::video});
        }
        std::uint64_t id = 2;
        auto* within = first->clip->info().main(Kind::audio);
        if (plan_.audio_tracks.empty() && within) {
            auto track = *within;
            track.is_default = true;
            add(std::move(track), id++, {0, Kind::audio});
        }
        std::optional<Track> alike;
        // The one that plays by itself is looked at; the others are taken to be of its kind until they are chosen.
        auto main =
            std::find_if(plan_.audio_tracks.begin(), plan_.audio_tracks.end(), [](auto& s) { return s.is_default; });
        if (main == plan_.audio_tracks.end()) main = plan_.audio_tracks.begin();
        if (main != plan_.audio_tracks.end() && main->track_group > 0) {
            RUEDO_TRY(auto loaded, fetcher_->loaded(main->track_group, begins_));
            auto* audio = loaded && loaded->clip ? loaded->clip->info().main(Kind::audio) : nullptr;
            if (audio) alike = *audio;
        }
        for (auto s = plan_.audio_tracks.begin(); s != plan_.audio_tracks.end(); ++s) {
            auto track = s->track_group == 0 && within ? *within : alike.value_or(Track{});
            if (track.kind != Kind::audio) continue;
            if (!s->language.empty()) track.language = s->language;
            track.is_default = s == main;
            add(std::move(track), id++, {s->track_group, Kind::audio});
        }
        id = 101;
        for (auto& s : plan_.texts) {
            Track track;
            track.kind = Kind::text, track.codec = Codec::webvtt, track.codec_tag = "WebVTT",
            track.codec_string = "wvtt";
            track.language = s.language, track.is_default = s.is_default;
            track.tick = {1, 1000};
            add(std::move(track), id++, {s.track_group, Kind::text});
        }
        return {};
    }

    std::shared_ptr<SegmentFetcher> fetcher_;
    Plan plan_;
    std::map<std::uint64_t, Place> places_;
    std::string kind_, encryption_ = "none";
    Time begins_{}, hold_back_{};
    static constexpr std::uint64_t keyframes_id = 1000;
    std::optional<Track> keyframes_;
};
}  // namespace

static Result<Plan> plan_of(Fetch& fetch, const std::string& address) {
    RUEDO_TRY(auto got, fetch.get(address, {}, most_playlist_bytes));
    if (is_manifest(ByteView(got.bytes).first(std::min<std::size_t>(got.bytes.size(), 4096))))
        return plan_dash(got.bytes, got.address, got.server_date);
    RUEDO_TRY(auto playlist, parse_playlist(got.bytes, got.address));
    return plan_hls(got.address, std::move(playlist));
}

Result<std::vector<std::filesystem::path>> files_of(const std::filesystem::path& playlist) {
    namespace fs = std::filesystem;
    std::set<fs::path> all;
    Fetch fetch;
    std::function<Status(const std::string&, int)> take_list;
    auto take = [&](const std::string& file) {
        if (!is_address(file)) all.insert(fs::path(file).lexically_normal());
    };
    auto take_segments = [&](const SegmentList& list) {
        for (auto& s : list.segments) {
            take(s.address);
            if (s.map) take(s.map->address);
            if (s.key && s.key->method == Key::Method::aes_128) take(s.key->address);
        }
    };
    // Every list that is named, and what those name; a manifest's lists are in itself.
    std::map<std::string, std::string> names;
    take_list = [&](const std::string& file, int depth) -> Status {
        take(file);
        if (is_address(file) || depth > 2) return {};
        RUEDO_TRY(auto got, fetch.get(file, {}, most_playlist_bytes));
        if (!is_playlist(got.bytes)) return {};
        RUEDO_TRY(auto parsed, parse_playlist(got.bytes, file, names));
        if (!parsed.master) return take_segments(parsed.list), Status{};
        names = parsed.names;
        for (auto* list : {&parsed.master->variants, &parsed.master->iframes_only})
            for (auto& v : *list) RUEDO_TRY_DO(take_list(v.address, depth + 1));
        for (auto& a : parsed.master->alternatives)
            if (!a.address.empty()) RUEDO_TRY_DO(take_list(a.address, depth + 1));
        return {};
    };
    RUEDO_TRY_DO(take_list(playlist.string(), 0));
    if (all.size() == 1) {
        RUEDO_TRY(auto plan, plan_of(fetch, playlist.string()));
        if (plan.kind == "dash")
            for (auto& track_group : plan.track_groups)
                for (std::size_t i = 0; i < track_group.rungs.size(); ++i) {
                    RUEDO_TRY(auto list, track_group.playlists->list(fetch, i));
                    take_segments(list);
                }
    }
    auto base = playlist.parent_path().lexically_normal();
    for (auto& file : all) {
        auto relative = file.lexically_relative(base);
        if (relative.empty() || *relative.begin() == "..")
            return fail(ErrorCode::refused,
                        fmt::format("“{}” names “{}”, which lies outside its folder.", playlist.filename().string(),
                                    file.string()),
                        "Keep a stream in one folder, with its playlist on top.");
    }
    return std::vector<fs::path>(all.begin(), all.end());
}

Result<adapt::Ladder> ladder_of(const std::string& address) {
    Fetch fetch;
    RUEDO_TRY(auto plan, plan_of(fetch, address));
    adapt::Ladder ladder;
    auto& track_group = plan.track_groups[0];
    for (std::size_t i = 0; i < track_group.rungs.size(); ++i) {
        RUEDO_TRY(auto list, track_group.playlists->list(fetch, i));
        std::vector<double> sizes;
        double bits = 0;
        for (auto& s : list.segments) {
            std::error_code ec;
            auto size = s.range                  ? static_cast<double>(s.range->to - s.range->from)
                        : !is_address(s.address) ? static_cast<double>(std::filesystem::file_size(s.address, ec))
                                                 : 0;
            if (ec || size <= 0) break;
            sizes.push_back(size * 8), bits += size * 8;
        }
        if (sizes.size() != list.segments.size()) sizes.clear();
        auto rate = track_group.rungs[i].bits_a_second();
        if (rate <= 0 && !sizes.empty() && list.end().ns > 0) rate = bits / list.end().seconds();
        if (rate <= 0)
            return fail(ErrorCode::malformed,
                        fmt::format("{} does not say what its rungs take of a link.", track_group.name),
                        "State BANDWIDTH for each.");
        ladder.bitrates.push_back(rate), ladder.sizes.push_back(std::move(sizes));
        if (i > 0) continue;
        ladder.segments = list.segments.size();
        ladder.segment = (list.end() - list.segments.front().start) / static_cast<std::int64_t>(ladder.segments);
    }
    return ladder;
}

Result<std::unique_ptr<Clip>> open(const std::string& address, const StreamOptions& options) {
    Fetch fetch;
    RUEDO_TRY(auto plan, plan_of(fetch, address));
    auto clip = std::make_unique<StreamClip>();
    RUEDO_TRY_DO(clip->open(address, std::move(plan), options));
    return clip;
}

}  // namespace ruedo::stream
