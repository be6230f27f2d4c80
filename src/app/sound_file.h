// SPDX-License-Identifier: Apache-2.0
// What is heard, written to a WAV file as it is mixed.
#pragma once
#include <condition_variable>
#include <deque>
#include <thread>

#include "playback/mixer.h"

namespace ruedo {

/// Sample 0 of the file is presentation time 0. Blocks wait in a short queue for a thread that writes them, so that
/// neither the device's thread waits for the disk nor memory grows with the length of what is played.
class WavFile {
  public:
    /// `mixer` must outlive it. Errors as of `FileWriter::create`; `exists` where `path` is what is being played.
    static Result<std::unique_ptr<WavFile>> create(Mixer& mixer, const std::filesystem::path& path,
                                                   const std::string& source, bool replace);
    ~WavFile();
    /// Ends listening and puts the file in its place.
    Status finish();

  private:
    WavFile(Mixer& mixer, WavWriter wav);
    struct Block {
        std::vector<float> samples;
        std::int64_t frame;
    };
    void write(const Block& block);
    void stop();
    Mixer& mixer_;
    WavWriter wav_;
    std::mutex mutex_;
    std::condition_variable changed_;
    std::deque<Block> waiting_;
    bool ending_ = false;
    Status outcome_;
    std::optional<std::int64_t> next_;  ///< The mixed frame that is to be written next, once it is known.
    std::thread thread_;
};

}  // namespace ruedo
