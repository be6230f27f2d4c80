// SPDX-License-Identifier: Apache-2.0
// A player of a document at work: its queue, what its controls go by, what a press does, and what happens by itself.
// The window, packed apps and the command line use this one; everything here is called on one thread.
#pragma once
#include "playback/queue.h"
#include "player/layout.h"

namespace ruedo {

/// A key that does the same wherever a player has the focus.
struct PlayerKey {
    std::string_view keys;  ///< "Alt+Left".
    Press press;
    std::string_view meaning;
};
std::span<const PlayerKey> player_keys();

class PlayerSession {
  public:
    struct Host {
        std::shared_ptr<Strand> strand;  ///< Looks after the queue; in virtual time the controllers' own.
        PlayQueue::Make make;
        std::shared_ptr<FrameSink> sink;
        std::function<void(const Event&)> event{};          ///< Of the one that plays; on its strand.
        std::function<void(std::size_t source)> changed{};  ///< The queue went on by itself; on its strand.
        std::function<void()> full_screen{}, leave{};       ///< What only the host can do.
        std::function<void()> renew{};  ///< Calls `renew`, where more than the session has to follow it.
    };
    explicit PlayerSession(Host host);
    ~PlayerSession();

    /// Opens source `index`, whose file is looked for from `folder`.
    void load(const PlayerDocument& document, std::size_t index, const std::filesystem::path& folder);
    /// The same source, with what changed in the document taken over where that needs no restart.
    void apply(const PlayerDocument& document, std::size_t index);
    /// After a release: a fresh controller in the same place.
    void renew();
    /// After `changed`: follows the queue to the source it went on to.
    void turned(std::size_t index);

    const PlayerDocument& document() const { return document_; }
    const PlayerSpec& player() const { return document_.player(); }
    const SourceSpec* source() const {
        return index_ < document_.sources.size() ? &document_.sources[index_] : nullptr;
    }
    const std::filesystem::path& folder() const { return folder_; }
    std::size_t index() const { return index_; }
    Time born() const { return born_; }  ///< When the controller was made: its trace counts from there.
    Controller& controller() { return *controller_; }
    Snapshot snapshot() const { return controller_->snapshot(); }

    /// Somebody is there: what hides comes back.
    void touch();
    /// While the pointer is on what hides, it stays.
    void keep_awake(bool kept) { kept_awake_ = kept; }
    void set_full_screen(bool full) { full_screen_ = full; }
    bool in_full_screen() const { return full_screen_; }
    void set_handset(bool handset) { handset_ = handset; }
    ControlContext context() const;
    /// Does what happens by itself; to be called after events, and now and then.
    void follow();
    void press(const Press& press);
    /// Does what a key does ("Alt+Left"); skips go as far as the player's own controls do. False for other keys.
    bool key(std::string_view keys);
    const ControlCalls& calls() const { return calls_; }
    /// Something happened to the app round it ("background", see host_life.h): does what the document says. False for
    /// a word that is none.
    bool host(std::string_view word);
    const HostLife& life() const { return life_; }
    /// Goes there once the source is open; plays as its start says.
    void resume(Time at) { returns_ = Return{at, false}; }

  private:
    void fill_queue(bool held = false);
    void come_back(bool play);
    void ask_for_what_is_shown();
    Host host_;
    PlayerDocument document_;
    std::filesystem::path folder_;
    std::size_t index_ = 0;
    std::unique_ptr<PlayQueue> queue_;
    std::shared_ptr<Controller> controller_;
    ControlCalls calls_;
    Time born_{}, touched_{};
    HostLife life_;
    struct Return {
        Time at{};
        bool play = false;
    };
    std::optional<Return> returns_;  ///< Where to go on once the source is open again.
    Time left_at_{};
    bool full_screen_ = false, handset_ = false, kept_awake_ = false, started_ = false, ended_ = false;
};

}  // namespace ruedo
