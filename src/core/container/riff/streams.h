// SPDX-License-Identifier: Apache-2.0
// The streams of an AVI file and how their chunks are read: from an index, or as they are met.
#pragma once
#include "container/elementary/frames.h"
#include "container/riff/chunks.h"

namespace ruedo::riff {

struct Entry {
    std::uint64_t at = 0;      ///< Of the chunk's data.
    std::uint64_t before = 0;  ///< Bytes of the stream before it.
    std::uint32_t size = 0;
    bool key = false;
};

/// The chunks of a stretch of the file in their order, those inside lists as if the lists were not there.
struct ChunkWalk {
    SourceReader reader;
    std::uint64_t at, end;
    Result<std::optional<Chunk>> next();
};

/// What the header says of a stream, and its first chunk.
struct Described {
    Track track;
    std::size_t number = 0;
    std::uint64_t scale = 1, rate = 1, start = 0, length = 0, sample_size = 0, bytes_per_second = 0;
    Bytes super_index;
    bool annex_b = false;
    std::uint64_t frames_begin = 0;
    std::optional<AudioFrameHeader>
        frame;  ///< Sound whose frames need no container and do not keep to chunks: the first.
};

struct Stream : Described {
    std::vector<Entry> entries;
    std::unique_ptr<ChunkWalk> walk;  ///< Without an index: how `entries` grow.

    /// When the stream begins: the header's dwStart, in the units of its rate.
    Time lead() const { return ticks_to_time(static_cast<std::int64_t>(start), scale, rate); }
    /// Presentation time of entry `i`: its place in the stream, or its bytes where samples have a fixed size.
    Time time_of(std::size_t i) const;
    std::uint64_t total() const { return entries.empty() ? 0 : entries.back().before + entries.back().size; }

    /// Whether a chunk with this name is one of this stream's.
    bool takes(std::uint32_t id) const;
    void add(const Chunk& chunk, bool key);
    /// Without an index nothing says which pictures are whole; the first is, and where a codec tells, others.
    Status add_walked(const Chunk& chunk, SourceReader& reader);
    /// Walks on to the next chunk; false when there is none, or no need to walk.
    Result<bool> more();
    /// Walks, where there is no index, until the last chunk stands after `t`.
    Status reach(Time t);
    /// The last chunk at or before `t` that holds a picture to begin with; the first such one when there is none.
    std::size_t key_at(Time t) const;
    bool always_key() const {
        return track.kind == Kind::audio || track.codec == Codec::mjpeg || track.codec == Codec::png;
    }
};

/// The frames of sound that does not keep to its chunks.
std::shared_ptr<elementary::FrameIndex> audio_frames(std::shared_ptr<ByteSource> source,
                                                     std::shared_ptr<Stream> stream);
/// Readers share a stream that is indexed; one that is walked belongs to its reader.
std::unique_ptr<TrackReader> chunk_reader(std::shared_ptr<ByteSource> source, std::shared_ptr<Stream> stream);
/// The same for pictures that are not shown in the order of their chunks, which is the order of decoding.
std::unique_ptr<TrackReader> ordered_reader(std::shared_ptr<ByteSource> source, std::shared_ptr<Stream> stream);

}  // namespace ruedo::riff
