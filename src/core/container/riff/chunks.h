// SPDX-License-Identifier: Apache-2.0
// What AVI and WAV have in common: chunks of a RIFF file and WAVEFORMATEX.
#pragma once
#include "container/container.h"
#include "media/codec_headers.h"

namespace ruedo::riff {

constexpr std::uint32_t le_tag(const char (&s)[5]) { return std::byteswap(fourcc(s)); }

struct Chunk {
    std::uint64_t at = 0, size = 0;  ///< Of its data.
    std::uint32_t id = 0;
    std::uint64_t after() const { return at + size + (size & 1); }
};
/// The chunk whose head stands at `at`; nothing at the end of the source.
Result<std::optional<Chunk>> read_chunk(SourceReader& reader, std::uint64_t at);
/// Whether a further RIFF goes on with the AVI before it (“AVIX”); another AVI behind it is not part of it.
Result<bool> goes_on(SourceReader& reader, const Chunk& riff);

/// WAVEFORMATEX as a track's codec.
void name_audio(Track& t, ByteView format);
Error unknown_codec(const Track& t, const std::string& name);

Result<std::unique_ptr<Clip>> open_avi(std::shared_ptr<ByteSource> source);
Result<std::unique_ptr<Clip>> open_wav(std::shared_ptr<ByteSource> source);

}  // namespace ruedo::riff
