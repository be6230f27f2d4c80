// SPDX-License-Identifier: Apache-2.0
// The controller's inside. Everything here runs on the strand unless it says otherwise.
#pragma once
#include <condition_variable>

#include "container/container.h"
#include "playback/clock.h"
#include "playback/playback.h"
#include "playback/trace.h"

namespace ruedo {

class Controller::Engine : public std::enable_shared_from_this<Controller::Engine> {
  public:
    explicit Engine(Env env);

    // Calls, on the strand.
    void open(std::string source, OpenOptions options);
    void call(machine::Input input);
    void seek(Time t, SeekMode mode);
    void skip(Time by);
    void step(int pictures);
    void set_volume(double volume, bool muted);
    void set_rate(double rate);
    void set_loop(Loop loop);
    void choose_audio(std::uint64_t id);
    void choose_text(std::uint64_t id);
    void choose_languages(const std::string& audio, const std::string& text);
    void list_frames();
    std::shared_ptr<MixerInput> arm();
    void disarm();
    void hand_over_to(std::shared_ptr<MixerInput> next) { next_input_ = std::move(next); }
    void refresh();
    void painted(Time pts, Time due, Time when);
    void set_muted(bool muted) { set_volume(volume_, muted); }
    void set_place(double left, double right);
    void set_ducked(double part);
    void shown_at(int width, int height);
    void tell(const std::string& name, const std::string& detail) { note(name, detail); }
    template <class F>
    void on_call(F&& f) {
        run_guarded(std::forward<F>(f));
    }
    double volume() const { return volume_; }
    bool muted() const { return muted_; }

    // From any thread.
    Snapshot snapshot() const;
    PlaybackReport report() const;
    void cancel_work();
    Strand& strand() { return *env_.strand; }
    std::shared_ptr<Strand> shared_strand() { return env_.strand; }
    Trace& trace() { return trace_; }
    bool wait(const std::function<bool(const Snapshot&)>& done, Time deadline);

  private:
    /// A decoded picture on its way to the screen. `at` is its time on the unrolled timeline, where a loop's
    /// second lap follows the first.
    struct Item {
        Frame picture;
        Time at{};
        std::shared_ptr<const RgbImage> image;
        bool prepared = false, preparing = false;  ///< Made into display pixels, or being made.
        std::uint64_t ticket = 0;
    };
    Item item_of(Frame picture, Time at) {
        Item item;
        item.picture = std::move(picture);
        item.at = at;
        item.ticket = next_ticket_++;
        return item;
    }
    struct SeekRequest {
        Time time{};
        SeekMode mode = SeekMode::exact;
        int steps = 0;
        Time asked{};  ///< When, for the trace.
    };
    struct Decoded {
        std::optional<Frame> picture;
        std::optional<Time> end;     ///< Of the track, when it has come.
        std::uint64_t left_out = 0;  ///< Pictures given up on the way to this one.
        bool leapt = false;
    };

    void input(machine::Input input, std::string_view detail = {});
    void apply(machine::Effect effect);
    void open_source();
    void opened(Result<Playable> result);
    void begin_seek();
    void landed(Result<std::optional<Frame>> result, SeekRequest wanted);
    void run();
    void halt();
    void let_go();
    void reset_source();

    void pump();
    void pump_video();
    void pump_prepare();
    void pump_audio();
    void prime_audio(Time at);
    void take_frame(Result<Decoded> result, int lap, Time begun);
    void shed_load(Time at, Time begun);
    void look_whether_stood_still(Time now);
    void take_audio(std::unique_ptr<AudioReader> audio, Time at, Time asked, int tries);
    bool enough_is_here();
    void begin_audio_at(Time at);
    /// How far ahead another sound track is read before it takes over; its reading must not take longer.
    Time switch_ahead() const { return scaled(clock_.running() ? 300_ms : Time{}, rate_); }
    static constexpr Time switch_read_ahead = 200_ms;
    /// No frame is shown that is further than this from the audio clock.
    static constexpr Time too_late = 250_ms;
    /// A tick that comes so late was not late by itself: the process stood still.
    static constexpr Time stood_still = 250_ms;
    void schedule_frame();
    void present_due();
    void show(Item item, Time due);
    void count_repeats(Time due);
    void count_shown(const Frame& picture);
    void measure_offset(Time picture, Time when);
    void tick();
    void start_clock_if_ready();
    void check_end(Time now);
    void check_fed();
    void fail_with(Error error);
    void look_at_converter();
    void look_at_news();
    void catch_up(Time now);
    void reset_pace_boost();
    void measure_buffer();
    void list_track_options();
    void find_frames();
    void choose_spoken();

    /// It comes as it happens, and there is no other place to go to.
    bool only_now() const { return clip_ && !clip_->seekable(); }
    /// Where one can go; of what is live not so near to its edge that it would have to wait there.
    std::optional<TimeRange> places() const {
        auto window = clip_ ? clip_->seekable() : std::nullopt;
        if (auto edge = window ? clip_->edge() : std::nullopt)
            window->to = std::max(window->from, window->to - edge->keep);
        return window;
    }
    std::optional<Time> edge() const {
        auto e = clip_ ? clip_->edge() : std::nullopt;
        return e ? e->now : std::nullopt;
    }
    bool looping() const { return loop_.kind != Loop::Kind::none && loop_length().ns > 0; }
    Time loop_from() const { return loop_.kind == Loop::Kind::range ? loop_.from : Time{}; }
    Time loop_to() const { return loop_.kind == Loop::Kind::range ? std::min(loop_.to, duration_) : duration_; }
    Time loop_length() const { return loop_to() - loop_from(); }
    Time fold(Time unrolled) const;
    /// What plays goes on until `end`, whatever was said of its length.
    void reaches(Time end) {
        if (duration_known_ && !looping() && fold(end) > duration_ + 100_ms) duration_ = fold(end);
    }
    int lap_of(Time unrolled) const;
    Time trace_start() const { return made_at_; }
    Time now() const { return env_.strand->now(); }
    Time media_now() const { return clock_.at(now()); }
    void audio_as_set();
    std::array<double, 2> place_{1, 1};  ///< Gain left and right from its place in the room, besides its volume.
    double ducked_ = 1;
    void note(std::string_view name, std::string detail = {}, std::optional<Time> took = {},
              std::optional<Time> target = {});
    void publish();
    /// What runs on the strand later: not at all once the engine is gone, and never further than here when it throws.
    template <class F>
    auto guarded(F&& f) {
        return [weak = weak_from_this(), f = std::forward<F>(f)]() mutable {
            if (auto self = weak.lock()) self->run_guarded(f);
        };
    }
    template <class F>
    void run_guarded(F&& f) {
        try {
            f();
        } catch (const std::exception& e) {
            fault(e.what());
        }
    }
    void fault(const std::string& what);
    /// Runs `job` on `worker`, then `done` on the strand with what it gave, where `number` is still what it was.
    template <class Job, class Done>
    void beside(Worker& worker, Time cost, std::uint64_t& number, Job job, Done done) {
        struct JobResult {
            std::optional<decltype(job())> value;
            std::string thrown;
        };
        auto made = std::make_shared<JobResult>();
        auto work = [made, job = std::move(job)]() mutable {
            try {
                made->value.emplace(job());
            } catch (const std::exception& e) {
                made->thrown = e.what();
            }
        };
        worker.run(cost, std::move(work),
                   guarded([this, made, &number, asked = number, done = std::move(done)]() mutable {
                       if (asked != number) return;
                       if (made->value)
                           done(std::move(*made->value));
                       else
                           fault(made->thrown);
                   }));
    }
    /// Cancels reads under the old flag; later reads get the new one.
    void renew(CancelFlag& flag);

    Env env_;
    machine::State state_;
    Trace trace_;
    std::string source_;
    OpenOptions options_;
    Time made_at_{}, opened_at_{};
    std::optional<Time> first_frame_;

    std::unique_ptr<Worker> video_worker_, audio_worker_, switch_worker_, prepare_worker_, buffer_worker_, text_worker_,
        list_worker_;
    bool fetched_ = false;  ///< What is played has to be fetched, so one may have to wait for it.
    std::vector<Track> playing_;
    TimeRange buffered_{};  ///< Only where it is.
    struct Starved {
        Time at{}, buffered{}, grown{};
        std::uint64_t received = 0;
    };
    std::optional<Starved> starved_;  ///< Since when, while waiting for the network.
    std::shared_ptr<const std::vector<TrackOption>> track_options_ = no_track_options();
    std::shared_ptr<const Cues> cues_;
    std::shared_ptr<const FrameTimes> frame_times_;
    bool lists_frames_ = false;
    std::uint64_t text_track_ = 0, text_generation_ = 0, audio_switch_ = 0, prepare_generation_ = 0,
                  buffer_generation_ = 0, list_generation_ = 0;
    static constexpr std::uint64_t first_outside = std::uint64_t{1}
                                                   << 48;  ///< Numbers of captions in files of their own.
    std::shared_ptr<Clip> clip_;
    // Owned by their worker while a job of it runs; shared so that a job outlives a reset.
    std::shared_ptr<FrameReader> pictures_;
    std::shared_ptr<AudioReader> audio_;
    std::shared_ptr<MixerInput> mixer_input_;
    std::shared_ptr<TimeStretcher> stretcher_;
    std::shared_ptr<MixerInput> next_input_;    ///< Of the controller that sounds after this one.
    std::shared_ptr<MixerInput> handed_input_;  ///< Kept alive while the mixer may go over to it.
    bool armed_ = false;                        ///< Its input is started by another one.

    std::deque<Item> items_;
    std::optional<Frame> shown_;
    Time shown_at_{INT64_MIN};  ///< Unrolled time of the picture shown; the lowest while a new one is awaited.
    std::optional<Time>
        current_;  ///< Time of the picture that counts: shown, or found and about to be. Steps go from it.
    Time last_due_{INT64_MIN / 2};  ///< When the last picture was to be shown.
    Time last_shown_wall_{INT64_MIN / 2};
    std::uint64_t generation_ = 0, audio_generation_ = 0, next_ticket_ = 1;
    bool video_busy_ = false, audio_busy_ = false, prepare_busy_ = false;
    bool video_end_ = false, audio_end_ = false, audio_done_ = true, audio_master_ = false;
    Time video_until_{}, audio_until_{};   ///< Unrolled ends, once known; of sound by what was mixed ...
    std::optional<Time> audio_track_end_;  ///< ... and by what the container says.
    int video_lap_ = 0, audio_lap_ = 0;
    Time audio_next_{};          ///< Where the next samples belong that come out of the stretcher ...
    Time audio_fed_{};           ///< ... and those that go in.
    std::size_t stretched_ = 0;  ///< Frames that came out since `audio_from_`.
    Time audio_from_{};
    double audio_pace_ = 1;  ///< That the stretcher was made for.
    /// A moment at which a live source was where its user wanted it.
    struct OnTime {
        Time wall, media, behind;  ///< Behind the edge as it was known then.
    };
    std::optional<OnTime> on_time_;
    double pace_boost_ = 1;  ///< Besides the rate, while a live source makes up for stalls.
    // One flag for each kind of waiting, so that giving one up leaves the others alone.
    CancelFlag cancel_ = std::make_shared<std::atomic<bool>>(false),
               audio_cancel_ = std::make_shared<std::atomic<bool>>(false),
               switch_cancel_ = std::make_shared<std::atomic<bool>>(false),
               text_cancel_ = std::make_shared<std::atomic<bool>>(false),
               list_cancel_ = std::make_shared<std::atomic<bool>>(false),
               buffer_cancel_ = std::make_shared<std::atomic<bool>>(false);
    std::atomic<bool> stop_all_ = false;

    /// What is given up to keep up with the sound (see `shed_load`).
    enum class Way { all, sparing, leaping };
    Way way_ = Way::all;
    bool leap_next_ = false;
    Time decoding_cost_{}, ticked_{INT64_MIN}, no_leap_before_{INT64_MIN}, looked_at_file_{};
    double decoding_speed_ = 0;  ///< Media seconds decoded in a second, smoothed; 0 while unknown.
    bool altered_ = false;
    std::uint64_t made_places_ = 0;
    std::optional<Error> cut_;  ///< The file became shorter while it played.

    std::optional<SeekRequest> wanted_, seeking_for_;
    MediaClock clock_;
    bool want_run_ = false;  ///< `run` was asked for; the clock starts once sound is primed.
    std::uint64_t frame_timer_ = 0, tick_timer_ = 0, delay_timer_ = 0, buffer_timer_ = 0;
    Time duration_{}, starved_since_{INT64_MAX};
    bool duration_known_ = false;
    int seen_lap_ = 0;

    double volume_ = 1, rate_ = 1;
    bool muted_ = false;
    Loop loop_;
    std::optional<Error> error_;
    Counters counters_;
    Time stalled_since_{INT64_MAX};
    std::shared_ptr<const StreamReport> stream_;
    int shown_width_ = 0, shown_height_ = 0;
    std::optional<Time> av_offset_;
    Time since_{};
    std::vector<std::int64_t> offsets_, pacing_;
    std::optional<Time> unpainted_;
    std::uint64_t mixer_listener_ = 0;

    mutable std::mutex published_mutex_;
    std::condition_variable published_changed_;
    Snapshot published_;

    MediaClock published_clock_;
    Time published_at_{};
    friend class Controller;
};

}  // namespace ruedo
