// What a recorder does, without the board: durations in a ring, lines with number and checksum, orders understood.
// Plain C++11 without a heap, so that it is tested on any computer and runs on an 8-bit board. docs/recorder.md in the
// application's repository describes the lines.
#pragma once

#include <stdint.h>

namespace tern {

const uint8_t kVersion = 2;
const uint8_t kRing = 64;            // durations that may wait for the serial line; a power of two
const uint8_t kLineDurations = 24;   // at most in a line
const uint16_t kRoom = 420;          // words of a press to be sent: 840 of an 8-bit board's 2048 bytes
const uint32_t kLongest = 100000000; // µs; a longer silence is told in pieces

// A duration with its sign: a mark is positive, a space negative, µs.
typedef int32_t Duration;

// Filled by the interrupt, emptied by the main loop. A full ring drops what comes and says so.
class Ring {
 public:
  bool put(Duration duration);
  bool take(Duration *duration);
  uint8_t waiting() const { return static_cast<uint8_t>(head_ - tail_); }
  bool overflowed();

 private:
  volatile Duration values_[kRing];
  volatile uint8_t head_ = 0, tail_ = 0;
  volatile bool overflowed_ = false;
};

// CRC-8, polynomial 0x07, start and final value 0.
uint8_t checksum(const char *text, uint16_t length);

// Writes "+9012 -4480 # 17 3c\n" into a buffer; gives its length, 0 where it does not fit.
uint16_t write_line(const Duration *durations, uint8_t count, uint8_t number, char *out, uint16_t room);

// Writes the answer to "?".
uint16_t write_hello(const char *name, uint8_t tick_us, char *out, uint16_t room);

// Writes "# said 3\n".
uint16_t write_said(uint16_t frames, char *out, uint16_t room);

// A press to be sent: a frame, and perhaps another that repeats behind it. A duration takes a word of 16 bits, a longer one
// three (0, high half, low half); marks and spaces take turns, each part begins with a mark.
class Press {
 public:
  void clear();
  bool takes_turn(Duration duration) const { return (duration > 0) == (tentative_since_ % 2 == 0); }
  bool put(Duration duration);  // false: no room
  void commit() { size_ = tentative_, count_ = tentative_count_, since_ = tentative_since_; }
  void roll_back() { tentative_ = size_, tentative_count_ = count_, tentative_since_ = since_; }
  bool divide();  // what follows is the part that repeats
  uint16_t count() const { return count_; }
  uint16_t size() const { return size_; }
  uint16_t repeats_from() const { return repeats_from_; }
  uint32_t take(uint16_t *at) const;  // the duration there, and moves on

 private:
  uint16_t words_[kRoom];
  uint16_t size_ = 0, tentative_ = 0;                         // words
  uint16_t count_ = 0, tentative_count_ = 0;                  // durations
  uint16_t since_ = 0, tentative_since_ = 0;                  // durations of the part
  uint16_t repeats_from_ = 0;
};

// What the other side asks for.
enum Order : uint8_t { kNothing, kHello, kSend, kBad, kReady, kGot, kAgain, kFull, kGo, kStop, kCannot };

// Takes the serial line's characters one by one.
class Orders {
 public:
  // kHello after "?", kSend after a whole frame in one order ("! 38000 +9012 -4480 +560 # 3c"), kReady after "load" and
  // "again", kGot or kAgain after a piece, kGo after "go 3", kStop after "stop"; kBad after any other line.
  Order feed(char c);
  uint32_t carrier_hz() const { return carrier_; }
  uint8_t duty_percent() const { return duty_; }
  uint16_t times() const { return times_; }
  const Press &press() const { return press_; }
  // Writes what is to be answered to an order; gives its length.
  uint16_t answer(Order order, char *out, uint16_t room) const;

 private:
  enum Verb : uint8_t { kNone, kAsk, kOneOrder, kLoad, kPiece, kDivide, kSay, kHalt, kUnknown };
  Order line_end();
  Order obey();
  void begin();
  void verb_ends();
  void number_ends();

  Press press_;
  uint32_t carrier_ = 0, number_ = 0, given_[3] = {0, 0, 0};
  uint16_t times_ = 1, next_piece_ = 0;
  uint8_t duty_ = 33, crc_ = 0, at_sum_ = 0, told_ = 0, digits_ = 0, letters_ = 0, numbers_ = 0;
  Verb verb_ = kNone;
  char word_[6];
  bool comment_ = false, in_number_ = false, negative_ = false, signed_ = false, bad_ = false, full_ = false;
};

// The carrier that a timer of 8 bits makes whose clock is an eighth of the board's (fast PWM, ATmega328P datasheet,
// 17.7.3): top + 1 ticks a cycle, compare + 1 of them high. real_hz is 0 where it cannot.
struct Carrier {
  uint8_t top, compare;
  uint32_t real_hz;
};
Carrier timer_carrier(uint32_t clock_hz, uint32_t wanted_hz, uint8_t duty_percent);

// A mark in whole cycles of a carrier, µs; 0 Hz leaves it as it is.
uint32_t whole_cycles(uint32_t us, uint32_t carrier_hz);

// Goes through a press so many times: its first part once, then what repeats.
class Player {
 public:
  Player(const Press &press, uint16_t times) : press_(press), times_(times) {}
  // The next duration; false at the end. The silence behind the last frame is not said.
  bool next(uint32_t *us, bool *mark);
  uint16_t said() const { return said_; }

 private:
  const Press &press_;
  uint16_t times_, said_ = 0, at_ = 0;
  bool mark_ = true, waiting_ = false;
};

// Says a press on a board, which has micros(), mark(), space(), half_cycle(high), said(frames) and stopped(). Edges are placed by the time
// since the first one, so that neither what a loop costs nor what a mark in whole cycles is off adds up. A carrier of software_hz is made by the loop itself.
// Gives how many frames were said whole.
template <class Board>
uint16_t say(Board &board, const Press &press, uint16_t times, uint32_t cycle_hz, bool by_timer) {
  Player player(press, times);
  uint32_t us, due = 0;
  uint16_t told = 0;
  bool mark;
  const uint32_t begin = board.micros();
  while (player.next(&us, &mark)) {
    const uint32_t from = due, ends = from + (mark ? whole_cycles(us, cycle_hz) : us);
    due += us;
    if (mark) board.mark();
    if (mark && cycle_hz && !by_timer) {
      for (uint32_t half = 1;; ++half) {
        const uint32_t end = from + static_cast<uint32_t>(static_cast<uint64_t>(half) * 500000 / cycle_hz);
        board.half_cycle(half & 1);
        while (board.micros() - begin < end) {
        }
        if (end >= ends || board.stopped()) break;
      }
    } else {
      while (board.micros() - begin < ends && !board.stopped()) {
      }
    }
    board.space();
    if (board.stopped()) break;
    if (player.said() != told) board.said(told = player.said());
  }
  return player.said();
}

}  // namespace tern
