// SPDX-License-Identifier: Apache-2.0
#include <fmt/format.h>

#include "container/riff/chunks.h"

namespace ruedo::riff {

Result<std::optional<Chunk>> read_chunk(SourceReader& reader, std::uint64_t at) {
    RUEDO_TRY(auto head, reader.view(at, 8));
    if (head.size() < 8) return std::nullopt;
    ByteReader r(head);
    auto id = static_cast<std::uint32_t>(r.le(4));
    return Chunk{at + 8, r.le(4), id};
}

Result<bool> goes_on(SourceReader& reader, const Chunk& riff) {
    RUEDO_TRY(auto type, reader.view(riff.at, 4));
    return ByteReader(type).le(4) == le_tag("AVIX");
}

Error unknown_codec(const Track& t, const std::string& name) {
    return {ErrorCode::codec_missing,
            fmt::format("Track {} of “{}” is in a codec that is not known here (“{}”).", t.id, name, t.codec_tag),
            export_again};
}

void name_audio(Track& t, ByteView format) {
    ByteReader r(format);
    auto tag = r.le(2);
    t.audio.channels = static_cast<int>(r.le(2));
    t.audio.rate = static_cast<int>(std::min<std::uint64_t>(r.le(4), 768000));
    t.codec_tag = fmt::format("0x{:04x}", tag);
    if (parse_pcm_format(format)) {
        t.codec = Codec::pcm;
        t.config.assign(format.begin(), format.end());
    } else if (tag == 0x55) {
        t.codec = Codec::mp3;
    } else if (tag == 0x50) {
        t.codec = Codec::mp2;
    } else if (tag == 0x2000) {
        t.codec = Codec::ac3;
    } else if (tag == 0xFF && format.size() > 18) {
        t.codec = Codec::aac;
        t.config.assign(format.begin() + 18, format.end());
    }
}

Result<std::unique_ptr<Clip>> open(std::shared_ptr<ByteSource> source) {
    Bytes head(12);
    RUEDO_TRY(auto got, source->read_at(0, head));
    if (got == 12 && std::memcmp(head.data() + 8, "AVI ", 4) == 0) return open_avi(std::move(source));
    return open_wav(std::move(source));
}

}  // namespace ruedo::riff
