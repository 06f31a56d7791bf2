#include "core.h"

namespace tern {

bool Ring::put(Duration duration) {
  if (waiting() == kRing - 1) {
    overflowed_ = true;
    return false;
  }
  values_[head_ & (kRing - 1)] = duration;
  head_ = static_cast<uint8_t>(head_ + 1);
  return true;
}

bool Ring::take(Duration *duration) {
  if (waiting() == 0) return false;
  *duration = values_[tail_ & (kRing - 1)];
  tail_ = static_cast<uint8_t>(tail_ + 1);
  return true;
}

bool Ring::overflowed() {
  const bool was = overflowed_;
  overflowed_ = false;
  return was;
}

static uint8_t step(uint8_t crc, char c) {
  crc ^= static_cast<uint8_t>(c);
  for (uint8_t bit = 0; bit < 8; ++bit) crc = static_cast<uint8_t>(crc & 0x80 ? crc << 1 ^ 0x07 : crc << 1);
  return crc;
}

uint8_t checksum(const char *text, uint16_t length) {
  uint8_t crc = 0;
  while (length--) crc = step(crc, *text++);
  return crc;
}

namespace {

// Appends to a buffer and remembers if it was too small.
struct Writer {
  char *out;
  uint16_t room, size;
  bool full;

  void put(char c) {
    if (size < room) {
      out[size++] = c;
    } else {
      full = true;
    }
  }
  void text(const char *words) {
    while (*words) put(*words++);
  }
  void number(uint32_t value) {
    char digits[10];
    uint8_t n = 0;
    do {
      digits[n++] = static_cast<char>('0' + value % 10);
      value /= 10;
    } while (value);
    while (n) put(digits[--n]);
  }
  void hex(uint8_t value) {
    const char *digits = "0123456789abcdef";
    put(digits[value >> 4]);
    put(digits[value & 15]);
  }
};

}  // namespace

uint16_t write_line(const Duration *durations, uint8_t count, uint8_t number, char *out, uint16_t room) {
  Writer writer = {out, room, 0, false};
  for (uint8_t i = 0; i < count; ++i) {
    const Duration d = durations[i];
    if (i) writer.put(' ');
    writer.put(d < 0 ? '-' : '+');
    writer.number(static_cast<uint32_t>(d < 0 ? -d : d));
  }
  writer.text(" # ");
  writer.number(number);
  const uint8_t crc = checksum(out, writer.size);
  writer.put(' ');
  writer.hex(crc);
  writer.put('\n');
  return writer.full ? 0 : writer.size;
}

uint16_t write_hello(const char *name, uint8_t tick_us, char *out, uint16_t room) {
  Writer writer = {out, room, 0, false};
  writer.text("# tern-recorder ");
  writer.number(kVersion);
  writer.text(" tick ");
  writer.number(tick_us);
  writer.text(" us, ");
  writer.text(name);
  const uint8_t crc = checksum(out, writer.size);
  writer.text(" # ");
  writer.hex(crc);
  writer.put('\n');
  return writer.full ? 0 : writer.size;
}

uint16_t write_said(uint16_t frames, char *out, uint16_t room) {
  Writer writer = {out, room, 0, false};
  writer.text("# said ");
  writer.number(frames);
  writer.put('\n');
  return writer.full ? 0 : writer.size;
}

void Press::clear() {
  size_ = tentative_ = count_ = tentative_count_ = since_ = tentative_since_ = repeats_from_ = 0;
}

bool Press::put(Duration duration) {
  const uint32_t us = static_cast<uint32_t>(duration < 0 ? -duration : duration);
  const uint8_t words = us > 65535 ? 3 : 1;
  if (tentative_ + words > kRoom) return false;
  if (words == 3) {
    words_[tentative_++] = 0;
    words_[tentative_++] = static_cast<uint16_t>(us >> 16);
  }
  words_[tentative_++] = static_cast<uint16_t>(us);
  ++tentative_count_;
  ++tentative_since_;
  return true;
}

bool Press::divide() {
  if (size_ == 0 || repeats_from_ || since_ % 2 != 0) return false;
  repeats_from_ = size_;
  since_ = tentative_since_ = 0;
  return true;
}

uint32_t Press::take(uint16_t *at) const {
  const uint16_t word = words_[(*at)++];
  if (word) return word;
  const uint32_t high = words_[(*at)++];
  return high << 16 | words_[(*at)++];
}

void Orders::begin() {
  crc_ = at_sum_ = told_ = digits_ = letters_ = numbers_ = 0;
  verb_ = kNone;
  comment_ = in_number_ = negative_ = signed_ = bad_ = full_ = false;
  number_ = 0;
  press_.roll_back();
}

static bool same(const char *one, const char *other) {
  while (*one && *one == *other) ++one, ++other;
  return *one == *other;
}

void Orders::verb_ends() {
  if (verb_ != kNone || !letters_) return;
  word_[letters_] = 0;
  const char *const names[] = {"?", "!", "load", ".", "again", "go", "stop"};
  verb_ = kUnknown;
  for (uint8_t i = 0; i < 7; ++i) {
    if (same(word_, names[i])) verb_ = static_cast<Verb>(kAsk + i);
  }
  if (verb_ == kOneOrder) press_.clear();
}

void Orders::number_ends() {
  if (!in_number_) return;
  in_number_ = false;
  if (number_ > kLongest) {
    bad_ = true;
  } else if (!signed_) {
    if (numbers_ < 3) given_[numbers_++] = number_;
  } else if (number_ == 0) {
    bad_ = true;
  } else if (!full_) {
    const Duration duration = negative_ ? -static_cast<Duration>(number_) : static_cast<Duration>(number_);
    if (!press_.takes_turn(duration)) {
      bad_ = true;
    } else if (!press_.put(duration)) {
      full_ = true;
    }
  }
  signed_ = false;
}

Order Orders::feed(char c) {
  if (c == '\r') return kNothing;
  if (c == '\n') {
    verb_ends();
    const Order order = line_end();
    begin();
    return order;
  }
  if (comment_) {
    const bool decimal = c >= '0' && c <= '9', letter = c >= 'a' && c <= 'f';
    if (decimal || letter) {
      told_ = static_cast<uint8_t>(told_ << 4 | (decimal ? c - '0' : c - 'a' + 10));
      ++digits_;
    } else if (c != ' ') {
      bad_ = true;
    }
    return kNothing;
  }
  if (c == '#') {
    number_ends();
    comment_ = true;
    return kNothing;
  }
  // The checksum is that of what stands before " #".
  if (c != ' ') {
    crc_ = at_sum_;
    crc_ = step(crc_, c);
    at_sum_ = crc_;
  } else {
    at_sum_ = step(at_sum_, c);
  }
  if (verb_ == kNone) {
    if (c == ' ') {
      verb_ends();
    } else if (letters_ < sizeof word_ - 1) {
      word_[letters_++] = c;
    } else {
      verb_ = kUnknown;
    }
    return kNothing;
  }
  if (c >= '0' && c <= '9') {
    if (!in_number_) number_ = 0;
    in_number_ = true;
    if (number_ > kLongest) bad_ = true;
    number_ = number_ * 10 + static_cast<uint32_t>(c - '0');
  } else {
    number_ends();
    if (c == '+' || c == '-') {
      signed_ = true;
      negative_ = c == '-';
    } else if (c != ' ') {
      bad_ = true;
    }
  }
  return kNothing;
}

Order Orders::line_end() {
  if (verb_ == kNone) return kNothing;
  if (verb_ == kAsk) return kHello;
  if (verb_ == kHalt) return kStop;  // at once, with or without a checksum
  const bool whole = !bad_ && comment_ && digits_ == 2 && told_ == crc_;
  if (!whole) return verb_ == kPiece ? kAgain : kBad;
  return obey();
}

Order Orders::obey() {
  switch (verb_) {
    case kOneOrder:
      if (full_) return kFull;
      press_.commit();
      carrier_ = given_[0];
      times_ = 1;
      return press_.count() % 2 == 1 ? kSend : kBad;
    case kLoad:
      if (numbers_ < 3 || (given_[0] && (given_[0] < 30000 || given_[0] > 60000))) return kCannot;
      press_.clear();
      carrier_ = given_[0];
      duty_ = static_cast<uint8_t>(given_[1] < 5 ? 5 : given_[1] > 50 ? 50 : given_[1]);
      next_piece_ = 0;
      return kReady;
    case kPiece:
      if (full_) return kFull;
      if (given_[0] + 1 == next_piece_) return kGot;  // said again, since the answer was lost
      if (given_[0] != next_piece_) return kAgain;
      press_.commit();
      ++next_piece_;
      return kGot;
    case kDivide:
      return press_.divide() ? kReady : kBad;
    case kSay:
      times_ = static_cast<uint16_t>(given_[0] ? given_[0] : 1);
      return numbers_ == 1 && press_.count() ? kGo : kBad;
    default:
      return kBad;
  }
}

uint16_t Orders::answer(Order order, char *out, uint16_t room) const {
  Writer writer = {out, room, 0, false};
  switch (order) {
    case kReady:
      writer.text("# ready ");
      writer.number(kRoom);
      break;
    case kGot:
      writer.text("# got ");
      writer.number(next_piece_ - 1u);
      break;
    case kAgain:
      writer.text("# again ");
      writer.number(next_piece_);
      break;
    case kFull:
      writer.text("# full ");
      writer.number(press_.count());
      break;
    case kCannot:
      writer.text("# cannot make this carrier");
      break;
    case kBad:
      writer.text("# order not understood");
      break;
    default:
      return 0;
  }
  writer.put('\n');
  return writer.size;
}

Carrier timer_carrier(uint32_t clock_hz, uint32_t wanted_hz, uint8_t duty_percent) {
  const uint32_t clock = clock_hz / 8;
  const uint32_t ticks = wanted_hz ? (clock + wanted_hz / 2) / wanted_hz : 0;
  if (ticks < 3 || ticks > 256) return {0, 0, 0};
  const uint32_t high = ticks * duty_percent / 100;
  return {static_cast<uint8_t>(ticks - 1), static_cast<uint8_t>(high ? high - 1 : 0), (clock + ticks / 2) / ticks};
}

uint32_t whole_cycles(uint32_t us, uint32_t carrier_hz) {
  if (!carrier_hz) return us;
  const uint64_t cycles = (static_cast<uint64_t>(us) * carrier_hz + 500000) / 1000000;
  return static_cast<uint32_t>(((cycles ? cycles : 1) * 1000000 + carrier_hz / 2) / carrier_hz);
}

bool Player::next(uint32_t *us, bool *mark) {
  const uint16_t begins = said_ && press_.repeats_from() ? press_.repeats_from() : 0;
  const uint16_t ends = !said_ && press_.repeats_from() ? press_.repeats_from() : press_.size();
  if (!waiting_) at_ = begins, waiting_ = true, mark_ = true;
  *mark = mark_;
  *us = press_.take(&at_);
  const bool last = at_ >= ends;
  if (last && !mark_ && said_ + 1 >= times_) {  // silence behind everything
    said_ = times_;
    return false;
  }
  if (said_ >= times_) return false;
  mark_ = !mark_;
  if (last) {
    ++said_;
    waiting_ = false;
  }
  return true;
}

}  // namespace tern
