// SPDX-License-Identifier: Apache-2.0
#include "media/codec_headers.h"

namespace ruedo {
namespace {
/// What comes before the size of the pictures (clause 5.5.1): timing and points of operation, the first of which
/// counts.
void read_operating_points(BitReader& r, Av1Sequence& s) {
    unsigned delay_bits = 0;
    if (r.bit()) {                             // timing_info_present_flag
        r.bits(32), r.bits(32);                // num_units_in_display_tick, time_scale
        if (r.bit()) r.ue();                   // equal_picture_interval; uvlc() is the same code
        if (r.bit()) {                         // decoder_model_info_present_flag
            delay_bits = r.bits(5) + 1;        // buffer_delay_length_minus_1
            r.bits(32), r.bits(5), r.bits(5);  // decoding tick, lengths of removal and presentation times
        }
    }
    bool display_delay = r.bit();
    auto points = r.bits(5) + 1;
    for (std::uint32_t i = 0; i < points && !r.overrun(); ++i) {
        r.bits(12);  // operating_point_idc
        auto level = r.bits(5), tier = level > 7 ? r.bit() : 0;
        if (i == 0) s.level = level, s.tier = tier;
        // decoder_model_present_for_this_op
        if (delay_bits && r.bit()) r.bits(delay_bits), r.bits(delay_bits), r.bit();
        if (display_delay && r.bit()) r.bits(4);
    }
}
/// Which tools pictures may use, as far as they are not of still ones alone.
void skip_tools(BitReader& r) {
    r.bits(4);  // inter-intra and masked compounds, warped motion, dual filter
    bool order = r.bit();
    if (order) r.bits(2);              // jnt_comp, ref_frame_mvs
    bool screen = r.bit() || r.bit();  // chosen by each picture, or forced
    if (screen && !r.bit()) r.bit();   // seq_choose_integer_mv, seq_force_integer_mv
    if (order) r.bits(3);              // order_hint_bits_minus_1
}
}  // namespace

std::vector<Av1Unit> split_av1(ByteView data) {
    std::vector<Av1Unit> out;
    while (data.size() >= 2) {
        Av1Unit u;
        u.type = data[0] >> 3 & 15;
        std::size_t head = data[0] & 4 ? 2 : 1;
        std::uint64_t size = data.size() - head;
        if (data[0] & 2) {
            size = 0;
            for (unsigned i = 0; i < 8 && head < data.size(); ++i) {
                auto b = data[head++];
                size |= static_cast<std::uint64_t>(b & 0x7F) << (7 * i);
                if (!(b & 0x80)) break;
            }
        }
        if (size > data.size() - head) break;
        u.whole = data.first(head + static_cast<std::size_t>(size));
        u.payload = u.whole.subspan(head);
        out.push_back(u);
        data = data.subspan(u.whole.size());
    }
    return out;
}

std::optional<Av1Sequence> parse_av1_sequence(ByteView header) {
    BitReader r(header);
    Av1Sequence s;
    s.profile = r.bits(3);
    r.bit();  // still_picture
    bool reduced = r.bit();
    if (reduced)
        s.level = r.bits(5);
    else
        read_operating_points(r, s);
    auto width_bits = r.bits(4) + 1, height_bits = r.bits(4) + 1;
    s.width = static_cast<int>(r.bits(width_bits)) + 1, s.height = static_cast<int>(r.bits(height_bits)) + 1;
    if (!reduced && r.bit()) r.bits(4), r.bits(3);  // lengths of frame numbers
    r.bits(3);                                      // 128 x 128 superblocks, filter intra, intra edge filter
    if (!reduced) skip_tools(r);
    r.bits(3);  // superres, cdef, restoration
    // color_config() (clause 5.5.2).
    bool high = r.bit();
    if (s.profile == 2 && high) r.bit();
    if (s.profile != 1) r.bit();  // mono_chrome
    if (r.bit()) {
        s.colour.primaries = static_cast<std::uint8_t>(r.bits(8));
        s.colour.transfer = static_cast<std::uint8_t>(r.bits(8));
        s.colour.matrix = Colour::matrix_from_code(r.bits(8));
    }
    bool srgb = s.colour.primaries == 1 && s.colour.transfer == 13 && s.colour.matrix == Colour::Matrix::identity;
    s.colour.range = srgb || r.bit() ? Colour::Range::full : Colour::Range::limited;
    return r.overrun() ? std::nullopt : std::optional(s);
}

}  // namespace ruedo
