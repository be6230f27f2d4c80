// SPDX-License-Identifier: Apache-2.0
#include "fuzz/targets.h"

#include <nlohmann/json.hpp>

#include "container/container.h"
#include "convert/targets.h"
#include "facts/keep.h"
#include "media/codec_headers.h"
#include "media/mpeg_video.h"
#include "media/picture_order.h"
#include "player/player.h"
#include "stream/host.h"
#include "stream/playlist.h"
#include "stream/stream.h"
#include "text/cues.h"

namespace ruedo::fuzz {
namespace {

using Open = Result<std::unique_ptr<Clip>> (*)(std::shared_ptr<ByteSource>);

/// Open, walk every track, read packets, seek: what a player and the facts do.
template <Open open>
void container(ByteView bytes) {
    auto clip = open(memory_source({bytes.begin(), bytes.end()}, "input"));
    if (!clip) return;
    for (auto& track : (*clip)->info().tracks) {
        auto reader = (*clip)->reader(track.id);
        PacketHead head;
        Bytes data;
        std::vector<Cue> cues;
        for (int i = 0; i < 2000 && reader->next(head).value_or(false); ++i) {
            if (!reader->read(data)) break;
            if (track.kind == Kind::text) cues_of_packet(track, head, data, cues);
        }
        for (auto t : {2'000_ms, 0_ms, 3'600'000_ms}) {
            auto again = (*clip)->reader(track.id);
            if (again->seek(t)) (void)again->next(head);
        }
    }
}
void probed(ByteView bytes) { container<static_cast<Open>(&open_clip)>(bytes); }

void playlists(ByteView bytes) {
    (void)stream::parse_playlist(bytes, "http://127.0.0.1/a/b.m3u8", {{"host", "x"}});
    (void)stream::live_list({reinterpret_cast<const char*>(bytes.data()), bytes.size()}, 7_s);
    (void)stream::network_trace_from_csv(bytes, "input");
    if (auto plan = stream::plan_dash(bytes, "/nowhere/manifest.mpd", {})) {
        stream::Fetch fetch;
        for (auto& track_group : plan->track_groups)
            for (std::size_t i = 0; i < std::min<std::size_t>(4, track_group.rungs.size()); ++i)
                (void)track_group.playlists->list(fetch, i);
    }
}
void captions(ByteView bytes) { (void)parse_captions(bytes, "input"); }
void documents(ByteView bytes) {
    auto j = nlohmann::json::parse(bytes.begin(), bytes.end(), nullptr, false);
    (void)document_from_json(j, "input");
    (void)target_from_json(j, "input");
    (void)facts_from_json(j);
}
void headers(ByteView bytes) {
    (void)parse_h264_sps(bytes), (void)parse_avcc(bytes), (void)parse_hevc_sps(bytes), (void)parse_hvcc(bytes);
    (void)parse_aac_config(bytes), (void)parse_opus_head(bytes), (void)parse_vp9_keyframe(bytes),
        (void)parse_theora_head(bytes), (void)parse_av1_sequence(bytes), (void)split_av1(bytes);
    (void)parse_flac_info(bytes), (void)parse_flac_frame(bytes), (void)parse_mp3_frame(bytes),
        (void)parse_adts_frame(bytes), (void)parse_ac3_frame(bytes), (void)parse_pcm_format(bytes);
    (void)parse_mpeg_sequence(bytes), (void)mpeg_sequence_bytes(bytes), (void)parse_mpeg_picture(bytes, false),
        (void)parse_mpeg4_config(bytes), (void)mpeg4_config_bytes(bytes), (void)split_mpeg4(bytes, 11);
    (void)parse_vorbis_modes(bytes, bytes), (void)split_laced(bytes), (void)make_avcc(bytes), (void)make_hvcc(bytes);
    ClipTags tags;
    take_comments(vorbis_comments(bytes), tags), tags.take_cover(picture_in_block(bytes));
    unsigned indication = 0;
    (void)asc_from_esds(bytes, indication);
    Bytes out;
    (void)to_annex_b(bytes, 4, out);
    from_annex_b(bytes, out);
    if (!bytes.empty()) {
        Track t;
        t.codec = static_cast<Codec>(bytes[0] % (static_cast<int>(Codec::unknown) + 1));
        t.config.assign(bytes.begin() + 1, bytes.end());
        describe_from_config(t);
        (void)disposable(t, bytes), (void)is_keyframe(t.codec, bytes, true);
        if (PictureOrder::reorders(t)) (void)PictureOrder(t).mark(bytes);
    }
}
}  // namespace

const std::vector<Target>& targets() {
    static const std::vector<Target> all{{"isobmff", &container<&isobmff::open>, {".mp4"}},
                                         {"matroska", &container<&matroska::open>, {".mkv", ".webm"}},
                                         {"ogg", &container<&ogg::open>, {".ogg", ".ogv"}},
                                         {"mpegts", &container<&mpegts::open>, {".ts"}},
                                         {"mpegps", &container<&mpegts::open_program>, {".mpg"}},
                                         {"riff", &container<&riff::open>, {".avi", ".wav"}},
                                         {"elementary", &container<&elementary::open>, {".mp3", ".ac3"}},
                                         {"flac", &container<&elementary::open_flac>, {".flac"}},
                                         {"any", &probed, {".mp4", ".webm", ".ogg", ".ts", ".mp3", ".flac"}},
                                         {"captions", &captions, {".vtt", ".srt"}},
                                         {"documents", &documents, {".json", ".ruedo"}},
                                         {"playlists", &playlists, {".m3u8", ".mpd"}},
                                         {"headers", &headers, {".bin"}}};
    return all;
}

}  // namespace ruedo::fuzz
