// SPDX-License-Identifier: Apache-2.0
// The controller: opens a source and plays it. Every call posts to the controller's strand and returns at once;
// every event comes from the strand, numbered. `snapshot` is its current state, a value.
#pragma once
#include <deque>
#include <nlohmann/json_fwd.hpp>

#include "base/strand.h"
#include "picture/picture.h"
#include "playback/machine.h"
#include "playback/mixer.h"
#include "text/cues.h"

namespace ruedo {

using machine::Intent;
using machine::Phase;

/// Where pictures go.
class FrameSink {
  public:
    virtual ~FrameSink() = default;
    /// Makes display pixels of a picture, beside the strand; may give nothing where nobody looks.
    virtual std::shared_ptr<const RgbImage> prepare(const Frame& picture) = 0;
    /// Shows it, now; `due` is when it should have been. On the strand.
    virtual void show(std::shared_ptr<const RgbImage> image, const Frame& picture, Time due) = 0;
    /// Forgets what was shown: another source is coming, or none.
    virtual void clear() = 0;
    /// The shortest time between two showings; 0 where every picture is to be shown.
    virtual Time refresh() const = 0;
    /// True when `Controller::painted` will say when each picture really came to the screen.
    virtual bool reports_paint() const { return false; }
};

struct Start {
    enum class How { hold, play, delay } how = How::hold;
    Time delay{};
};
struct Loop {
    enum class Kind { none, all, range } kind = Kind::none;
    Time from{}, to{};  ///< For `range`. It begins at `from`; `to` is reached by nothing, seeking and stepping neither.
    bool operator==(const Loop&) const = default;
};
enum class SeekMode { exact, keyframe };  ///< `keyframe`: the nearest one, for dragging.
enum class Motion { still, moving, starved };

/// A track that can be chosen while playing.
struct TrackOption {
    Kind kind = Kind::audio;
    std::uint64_t id = 0;  ///< The container's number; captions in files of their own count from 1 << 48.
    std::string language;  ///< BCP 47; may be empty.
    std::string title;     ///< For people: "German", or the codec where no language is stated.
    bool operator==(const TrackOption&) const = default;
};

struct OpenOptions {
    Start start;
    Loop loop;
    double volume = 1;
    bool muted = false;
    double rate = 1;
    std::string audio_language;         ///< Preferred over the clip's default where it has that.
    std::string text_language;          ///< Captions shown from the start; none when empty.
    std::vector<std::string> captions;  ///< Files of captions beside the clip.
    Time open_within = open_deadline;  ///< Until the first picture or sound is decoded; then opening fails (`timeout`).
};

struct Counters {
    std::uint64_t presented = 0, dropped = 0, skipped = 0, repeated = 0, damaged = 0;
    std::uint64_t stalls = 0;            ///< How often nothing was left to play ...
    Time stalled{};                      ///< ... and for how long in all.
    std::vector<std::uint64_t> by_rung;  ///< Pictures shown of each rung of a stream.
};

/// As before opening.
inline const std::shared_ptr<const std::vector<TrackOption>>& no_track_options() {
    static const auto none = std::make_shared<const std::vector<TrackOption>>();
    return none;
}

struct Snapshot {
    machine::State state;
    Motion motion = Motion::still;
    Time position{}, duration{};
    std::optional<TimeRange> seekable;  ///< Where one can go; see `Clip::seekable`.
    bool duration_known = false, live = false, has_video = false, has_audio = false, partial = false;
    Time buffered_from{}, buffered_to{};
    Time decoded_to{}, sounded_to{}, shown{};
    std::optional<Time> converted_to;  ///< Of what is converted while it plays.
    std::optional<Time> edge;          ///< The live edge, where a live source keeps a window.
    double pace = 1;                   ///< The rate, or up to 5 % more while what is live makes up for a stall.
    int display_width = 0, display_height = 0;
    double volume = 1, rate = 1;
    bool muted = false;
    Loop loop;
    std::optional<Error> error;
    Counters counters;
    std::uint64_t events = 0;  ///< Events so far.
    Time since{};              ///< Strand time at which phase or intent last changed.
    std::string source;
    std::size_t frames_ahead = 0;
    Time audio_ahead{};
    std::optional<Time> av_offset;
    std::shared_ptr<const std::vector<TrackOption>> track_options =
        no_track_options();                         ///< Sound and text tracks; never null.
    std::uint64_t audio_track = 0, text_track = 0;  ///< Which of them play; 0 for none.
    std::shared_ptr<const Cues> cues;               ///< Of the text track, as far as they are known.
    double level = 0;  ///< The current peak of the audio, 0 to 1; falls by 40 dB in a second.
    /// Of the track that plays, where `list_frames` asked for it and the clip is local; once it is found.
    std::shared_ptr<const FrameTimes> pictures;
    std::shared_ptr<const StreamReport> stream;  ///< Of HLS and DASH; a few times a second.
    /// The captions to be seen at `position`.
    std::vector<const Cue*> showing() const;
};

/// One entry of the trace.
struct Event {
    std::uint64_t n = 0;
    Time wall{};  ///< Since the controller was made.
    Time media{};
    std::string name;  ///< See docs/trace.md.
    std::string detail;
    std::optional<Time> took, target;
    std::size_t pictures = 0;       ///< Decoded pictures waiting.
    Time audio{};                   ///< Sound waiting.
    std::optional<Time> av_offset;  ///< Of the last picture shown; positive means late.
    std::optional<Time> made;       ///< Up to where a converter in front of it has come.
};
nlohmann::json to_json(const Event& event);

/// Distribution of a measured quantity, for reports.
struct Spread {
    double p50 = 0, p99 = 0, max = 0;
    std::size_t count = 0;
};

struct PlaybackReport {
    Snapshot snapshot;
    std::optional<Spread> av_offset_ms, pacing_ms;
    std::optional<double> first_frame_ms;
    std::vector<Event> events;
    std::optional<StreamReport> stream;
};

/// What virtual time charges for work; by default the order of magnitude of a small clip on a desktop machine.
struct Costs {
    Time open = 20_ms, seek = 15_ms;    ///< To the first picture; to any other.
    Time picture = 4_ms, audio = 1_ms;  ///< A picture decoded; 80 ms of sound.
    Time conversion{};                  ///< A picture made into display pixels.
};

class Controller {
  public:
    struct Env {
        std::shared_ptr<Strand> strand;  ///< Its own in real time; shared in virtual time.
        Mixer* mixer = nullptr;          ///< Must outlive the controller.
        CodecRegistry* codecs = nullptr;
        std::shared_ptr<FrameSink> sink;
        Costs costs = {};
        /// What turns a name into a clip; a host may have sources of its own kind.
        std::function<Result<std::unique_ptr<Clip>>(const std::string&)> open_clip = {};
        StreamOptions stream = {};  ///< How streams are opened; in virtual time always on demand.
    };
    explicit Controller(Env env);
    ~Controller();  ///< Releases, and waits for it (within 200 ms).
    Controller(const Controller&) = delete;
    Controller& operator=(const Controller&) = delete;

    /// A path, or an http address.
    void open(std::string source, OpenOptions options = {});
    void play();
    void pause();
    void stop();  ///< Back to the start, held.
    void seek(Time t, SeekMode mode = SeekMode::exact);
    void skip(Time by);              ///< Relative to where it is, or to the seek under way.
    void step(int pictures);         ///< Forward or back; holds.
    void set_volume(double volume);  ///< 0 to 1, of the volume control.
    void set_muted(bool muted);
    /// Gain of either channel from its place in the room, besides its volume; 1 and 1 leave it as it is.
    void set_place(double left, double right);
    /// How much of it is heard while something else matters more, besides all that: 1 for all of it.
    void set_ducked(double part);
    /// Its pictures are shown at so many pixels; a stream need not bring more.
    void shown_at(int width, int height);
    /// Something that happened around it, for the trace (docs/trace.md).
    void tell(std::string name, std::string detail);
    void set_rate(double rate);  ///< 0.25 to 4.
    void set_loop(Loop loop);
    void choose_audio(std::uint64_t id);  ///< One of the snapshot's track options; goes on where it is.
    void choose_text(std::uint64_t id);   ///< 0 for none.
    /// As `OpenOptions` has them, now or as soon as the source is open: the clip's own sound, and no captions, where
    /// a language is empty or the clip lacks it.
    void choose_languages(std::string audio, std::string text);
    /// From now on the snapshot says when pictures are shown, of whatever is open: for frame numbers and keyframe
    /// marks. Not for sources on a network, which would have to be fetched for it.
    void list_frames();
    void release();
    /// Plays, but is not heard before `first` has ended: then from the very sample after its last one. `first`
    /// must be of the same mixer and outlive this call's taking effect. Without sound in both it waits for `start_now`.
    void play_after(Controller& first);
    /// Ends waiting for another one.
    void start_now();
    /// Prepares and shows the held picture again, after the place to show it changed.
    void refresh();
    /// Does what the phase asks for: holds when intent is play, else plays.
    void toggle();

    /// From the sink, on any thread: the picture with this time came to the screen at `when`.
    void painted(Time pts, Time due, Time when);

    Snapshot snapshot() const;              ///< From any thread.
    Snapshot snapshot_after_calls() const;  ///< Real time only: waits until every call made before has been taken up.
    std::vector<Event> events(std::uint64_t after = 0) const;
    PlaybackReport report() const;
    /// Called on the strand after each event. Set before the first call.
    void on_event(std::function<void(const Event&)> listener);
    /// Real time only: until `done` says true of a snapshot, or the deadline. True when it did.
    bool wait(const std::function<bool(const Snapshot&)>& done, Time deadline) const;

  private:
    class Engine;
    std::shared_ptr<Engine> engine_;
};

/// The tracks a controller would play of a clip, or why it can't.
struct Selection {
    const Track* video = nullptr;
    const Track* audio = nullptr;
    std::optional<Error> lacking;  ///< Why pictures or sound that it has are left out.
};
/// A track in `audio_language` counts before the default one. A track whose codec is not known here is left out
/// (`lacking`), and what remains decides; pictures that can’t be played for another reason are an error. Without
/// `pictures` only sound is looked for.
Result<Selection> select_tracks(const ClipInfo& info, CodecRegistry& codecs, const std::string& audio_language = {},
                                bool pictures = true);

/// A source opened and found to play: everything that playing needs first has been read and decoded.
struct Playable {
    std::shared_ptr<Clip> clip;
    std::unique_ptr<FrameReader> pictures;
    std::unique_ptr<AudioReader> audio;
    Time from{};                   ///< Where it begins.
    std::optional<Frame> first;    ///< The one shown there.
    std::optional<Error> lacking;  ///< Why it plays without the pictures, or the sound, that it has.
    bool unseen = false;           ///< It is the pictures that are left out.
    std::vector<Track> playing;
};
/// The one way from an address or a path to something that plays; `inspect` asks it as well. Without `from` it begins
/// where the clip says, mostly at its start.
Result<Playable> open_playable(const std::string& source, CodecRegistry& codecs, const std::string& audio_language = {},
                               std::optional<Time> from = {}, const StreamOptions& options = {});

/// The same for a clip that is open already.
Result<Playable> open_playable(std::shared_ptr<Clip> clip, CodecRegistry& codecs,
                               const std::string& audio_language = {}, std::optional<Time> from = {});

/// Shows into nothing at `refresh`; `refresh` 0 shows every picture.
std::shared_ptr<FrameSink> make_null_sink(Time refresh);

nlohmann::json to_json(const PlaybackReport& report, bool virtual_time);
nlohmann::json to_json(const Error& error);

}  // namespace ruedo
