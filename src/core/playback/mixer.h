// SPDX-License-Identifier: Apache-2.0
// One mixer for the process owns the sound device; controllers have inputs in it.
#pragma once
#include <array>
#include <deque>
#include <functional>
#include <map>
#include <mutex>

#include "base/strand.h"
#include "sound/sound.h"

namespace ruedo {

/// Where sound goes. Calls `pull` for blocks of interleaved mix-format samples, from a thread of its own or
/// from a strand.
class AudioDevice {
  public:
    using Pull = std::function<void(float* out, std::size_t frames)>;
    virtual ~AudioDevice() = default;
    virtual Status start(Pull pull) = 0;
    virtual void stop() = 0;  ///< No pull is running or begins after this returns.
    /// Frames heard since `start`, as the device says; may stand still or jump.
    virtual std::int64_t played(Time now) = 0;
    virtual bool failed() const { return false; }
    virtual std::string describe() const = 0;
};

/// The sound server's device. Nothing when there is no server.
std::unique_ptr<AudioDevice> make_server_device();
/// Plays into nothing at the right speed: in virtual time, without a device, or after it died. `drift_ppm` makes
/// its clock run fast, for tests.
std::unique_ptr<AudioDevice> make_silent_device(Strand& strand, double drift_ppm = 0);

/// Frames heard over monotonic time, smoothed: a line through what the device says, never backward, corrections
/// slewed. Also tells when the device stands still or runs ahead of its supply.
class DeviceClock {
  public:
    void restart(Time now);
    /// A reading: the device says `frames` have been heard at `now`; `supplied` were given to it.
    void observe(std::int64_t frames, std::int64_t supplied, Time now);
    /// Frames heard at `now`, fractional; never less than a value given before.
    double frames_at(Time now);
    /// For 200 ms the position has stood still, or been ahead of the supply, although the device should run.
    bool stuck(Time now) const;

  private:
    Time base_{}, last_seen_{}, last_change_{}, ahead_since_{};
    double base_frames_ = 0, slope_ = 1, given_ = 0;
    std::int64_t last_frames_ = 0;
    bool started_ = false, ahead_ = false;
};

class Mixer;

/// One controller's place in the mixer. Thread-safe.
class MixerInput {
  public:
    ~MixerInput();
    /// Appends samples that belong to media time `pts` on; `rate` is media seconds per second heard.
    void push(Time pts, double rate, std::span<const float> samples);
    /// Nothing more will come; running out is then no underrun.
    void finish();
    void start();
    /// When this input has finished and its last sample is mixed, `next` begins at the very next one. Nothing takes
    /// it back, as `clear` does.
    void then(MixerInput* next);
    /// Drops everything, fading out within 5 ms, and stops running.
    void clear();
    /// Drops what belongs to media time `from` and later; running goes on.
    void cut(Time from);
    void set_gain(float gain) { set_gain(gain, gain); }
    void set_gain(float left, float right);  ///< Reached within a 10 ms ramp.
    Time buffered() const;                   ///< Seconds of audio buffered, as heard.
    /// The media time being heard at `now`; nothing until the first sample of what was pushed since `clear` sounds.
    std::optional<Time> heard(Time now);
    /// The peak of what is mixed just now, 0 to 1, falling by 40 dB in a second; 0 while it does not run.
    double level() const;
    /// True while running, not finished, and out of samples.
    bool starved() const;

  private:
    friend class Mixer;
    explicit MixerInput(Mixer& mixer) : mixer_(mixer) {}
    struct Chunk {
        Time pts;
        double rate;
        std::vector<float> samples;
        std::size_t at = 0;
    };
    struct Mark {
        std::int64_t frame;
        Time media;
        double rate;
        std::int64_t length;
    };
    void mark(std::int64_t frame, Time media, double rate, std::int64_t length);
    void mix(float* out, std::size_t frames, std::int64_t device_frame);
    Mixer& mixer_;
    std::deque<Chunk> chunks_;
    std::deque<Mark> marks_;
    std::vector<float> tail_;
    std::size_t waiting_ = 0;                         ///< Frames in `chunks_`.
    std::array<float, 2> gain_{1, 1}, target_{1, 1};  ///< Left and right.
    float fade_ = 0, level_ = 0;
    MixerInput* next_ = nullptr;
    std::int64_t mixed_to_ = -1;  ///< Frame up to which a input before it has mixed this one already.
    bool running_ = false, finished_ = false, starved_ = false;
};

class Mixer {
  public:
    /// `device` is tried first when the first input starts; without it, or when it dies, the silent stand-in on
    /// `strand` takes over. `strand` must outlive the mixer.
    explicit Mixer(Strand& strand, std::function<std::unique_ptr<AudioDevice>()> device = {});
    ~Mixer();
    std::shared_ptr<MixerInput> add_input();
    /// Told of hand-overs between device and stand-in, on the thread that calls `watch` or on the strand.
    /// Several may listen; the number takes one off again.
    std::uint64_t on_change(std::function<void(const std::string&)> told);
    void forget(std::uint64_t listener);
    /// What goes to the device, as it is mixed; for writing to a file. Called on the device's thread.
    void on_mix(std::function<void(std::span<const float>, std::int64_t frame)> tap);
    /// The mixed frame at which any input first sounded, and the media time that sounded there.
    std::optional<std::pair<std::int64_t, Time>> first_mark() const;
    std::string device_name() const;
    /// Looks after the device; called while something plays, by as many as like. What takes long (a device that is
    /// tried, one that is given up) goes on beside the mixer's strand.
    void watch();

  private:
    friend class MixerInput;
    void pull(float* out, std::size_t frames);
    void begin();
    void use(std::unique_ptr<AudioDevice> device, bool real);
    void change(bool lost);
    void take_over(std::unique_ptr<AudioDevice> device, bool real);
    double heard_frames(Time now);
    struct Guard {
        std::mutex mutex;
        Mixer* mixer;
    };
    /// What a device pulls from; cut off when another takes its place, so that two never pull.
    struct Tap {
        std::mutex mutex;
        Mixer* mixer;
    };
    Strand& strand_;
    std::shared_ptr<Guard> guard_;
    std::function<std::unique_ptr<AudioDevice>()> make_device_;
    mutable std::mutex mutex_;         ///< Inputs, marks, counters: short sections only.
    mutable std::mutex device_mutex_;  ///< Starting, stopping and asking the device. Taken before `mutex_`.
    std::vector<MixerInput*> inputs_;
    std::unique_ptr<Worker> beside_;  ///< Where devices are tried and given up.
    std::shared_ptr<Tap> pulled_;
    std::unique_ptr<AudioDevice> device_;
    DeviceClock clock_;
    std::int64_t mixed_ = 0, base_ = 0;  ///< Frames mixed in all; the count when this device began.
    Time next_try_{}, next_watch_{INT64_MIN};
    bool real_ = false, changing_ = false;
    mutable std::mutex mark_mutex_;  ///< A mutex of its own, so that listeners of a mix may query.
    std::optional<std::pair<std::int64_t, Time>> first_mark_;
    std::vector<float> scratch_;
    std::map<std::uint64_t, std::function<void(const std::string&)>> told_;
    std::uint64_t next_listener_ = 1;
    std::string name_;
    std::function<void(std::span<const float>, std::int64_t)> tap_;
};

}  // namespace ruedo
