//! A window of the made-up system: the lamp as it turns, drawn with a dozen requests of the X Window System Protocol.

use std::io::{Error, ErrorKind, Result};
use std::time::Duration;

use lantern_ssh::{Cookie, DisplayRequest, DisplaySetup};
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::time::{Instant, MissedTickBehavior, interval, sleep_until};

const WIDTH: i16 = 480;
const HEIGHT: i16 = 360;
/// How often the light moves on.
const TURN: Duration = Duration::from_millis(200);
/// Largest answer to a setup that is taken, in bytes.
const MAX_SETUP: usize = 64 * 1024;
const SKY: u32 = 0x0b_1f3a;
const SEA: u32 = 0x12_395c;
const ROCK: u32 = 0x2b_2b30;
const WHITE: u32 = 0xf2_efe6;
const RED: u32 = 0xb4_2318;
const BRASS: u32 = 0xd9_a441;
const BEAM: u32 = 0xff_e9a8;
/// Numbers of requests (X Window System Protocol, appendix B).
const CREATE_WINDOW: u8 = 1;
const MAP_WINDOW: u8 = 8;
const CHANGE_PROPERTY: u8 = 18;
const CREATE_GC: u8 = 55;
const CHANGE_GC: u8 = 56;
const FILL_POLY: u8 = 69;
const POLY_FILL_RECTANGLE: u8 = 70;
const GET_INPUT_FOCUS: u8 = 43;
const NO_OPERATION: u8 = 127;
/// The event that says that something is to be drawn anew.
const EXPOSE: u8 = 12;

/// What a display says of itself, as far as it is needed here.
struct Screen {
    first_id: u32,
    root: u32,
    size: (u16, u16),
}

fn odd(words: &'static str) -> Error {
    Error::new(ErrorKind::InvalidData, words)
}

fn u16_at(bytes: &[u8], at: usize) -> Option<u16> {
    Some(u16::from_le_bytes(*bytes.get(at..)?.first_chunk()?))
}

fn u32_at(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_le_bytes(*bytes.get(at..)?.first_chunk()?))
}

/// Reads what follows the first eight bytes of a setup that was accepted.
fn screen(rest: &[u8]) -> Option<Screen> {
    let vendor = usize::from(u16_at(rest, 16)?).next_multiple_of(4);
    let formats = usize::from(*rest.get(21)?) * 8;
    let at = 32 + vendor + formats;
    Some(Screen {
        first_id: u32_at(rest, 4)?,
        root: u32_at(rest, at)?,
        size: (u16_at(rest, at + 20)?, u16_at(rest, at + 22)?),
    })
}

/// Requests on their way.
struct Requests {
    window: u32,
    pen: u32,
    bytes: Vec<u8>,
}

impl Requests {
    /// A request: its number, its small argument, and the rest in words of four bytes.
    fn put(&mut self, number: u8, small: u8, words: &[u32]) {
        self.bytes.extend([number, small]);
        self.bytes.extend((words.len() as u16 + 1).to_le_bytes());
        words.iter().for_each(|word| self.bytes.extend(word.to_le_bytes()));
    }

    fn color(&mut self, color: u32) {
        self.put(CHANGE_GC, 0, &[self.pen, 4, color]);
    }

    fn rectangle(&mut self, color: u32, [x, y, width, height]: [i16; 4]) {
        self.color(color);
        self.put(POLY_FILL_RECTANGLE, 0, &[self.window, self.pen, pair(x, y), pair(width, height)]);
    }

    fn polygon(&mut self, color: u32, points: &[(i16, i16)]) {
        self.color(color);
        let mut words = vec![self.window, self.pen, 0];
        words.extend(points.iter().map(|(x, y)| pair(*x, *y)));
        self.put(FILL_POLY, 0, &words);
    }
}

/// Two numbers of two bytes as a word.
fn pair(first: i16, second: i16) -> u32 {
    u32::from(first as u16) | u32::from(second as u16) << 16
}

/// The words of a text, its end filled up.
fn text_words(text: &str) -> Vec<u32> {
    let word = |piece: &[u8]| {
        let mut bytes = [0; 4];
        bytes.iter_mut().zip(piece).for_each(|(to, from)| *to = *from);
        u32::from_le_bytes(bytes)
    };
    text.as_bytes().chunks(4).map(word).collect()
}

/// Shows the window until it is closed, or for this time; what there is to say at its end.
pub(super) async fn show(
    mut line: impl AsyncRead + AsyncWrite + Unpin,
    request: DisplayRequest,
    host: String,
    lasts: Option<Duration>,
) -> Result<String> {
    let rest = begin(&mut line, &request).await?;
    let Screen { first_id, root, size } = screen(&rest).ok_or_else(|| odd("a setup of another form"))?;
    let mut requests = Requests { window: first_id, pen: first_id + 1, bytes: Vec::new() };
    // In the corner where other windows seldom are.
    let corner =
        |whole: u16, own: i16| i16::try_from(whole).unwrap_or(i16::MAX).saturating_sub(own + 60).max(20);
    let at = pair(corner(size.0, WIDTH), corner(size.1, HEIGHT));
    // A background, and the event that asks for drawing.
    let place = [root, at, pair(WIDTH, HEIGHT), pair(0, 1), 0, 0x802, SKY, 0x8000];
    requests.put(CREATE_WINDOW, 0, &[&[first_id], &place[..]].concat());
    let title = format!("the lamp of {host}");
    let name = [first_id, 39, 31, 8, title.len() as u32];
    requests.put(CHANGE_PROPERTY, 0, &[&name[..], &text_words(&title)].concat());
    requests.put(CREATE_GC, 0, &[first_id + 1, first_id, 4, SKY]);
    requests.put(MAP_WINDOW, 0, &[first_id]);
    line.write_all(&std::mem::take(&mut requests.bytes)).await?;
    let end = lasts.map(|lasts| Instant::now() + lasts);
    let mut turns = interval(TURN);
    turns.set_missed_tick_behavior(MissedTickBehavior::Skip);
    let (mut angle, mut flashes, mut shown) = (0, 0, false);
    let mut event = [0; 32];
    let mut have = 0;
    loop {
        tokio::select! {
            read = line.read(event.get_mut(have..).unwrap_or_default()) => match read? {
                0 => return Ok(format!("closed after {flashes} flashes on a display of {} x {}", size.0, size.1)),
                len => {
                    have += len;
                    if have == event.len() {
                        have = 0;
                        shown |= event.first().is_some_and(|kind| kind & 0x7f == EXPOSE);
                    }
                }
            },
            _ = turns.tick(), if shown => {
                draw(&mut requests, angle);
                angle = (angle + 1) % 12;
                flashes += u32::from(angle == 0);
                line.write_all(&std::mem::take(&mut requests.bytes)).await?;
            }
            () = sleep_until(end.unwrap_or_else(Instant::now)), if end.is_some() => {
                return Ok(format!("shown on a display of {} x {}", size.0, size.1));
            }
        }
    }
}

/// So many small requests, each written by itself, and a question behind them; how long it took until that was answered.
pub async fn burst(
    mut line: impl AsyncRead + AsyncWrite + Unpin,
    request: &DisplayRequest,
    count: usize,
) -> Result<Duration> {
    begin(&mut line, request).await?;
    let start = Instant::now();
    for _ in 0..count {
        line.write_all(&[NO_OPERATION, 0, 1, 0]).await?;
    }
    line.write_all(&[GET_INPUT_FOCUS, 0, 1, 0]).await?;
    line.read_exact(&mut [0; 32]).await?;
    Ok(start.elapsed())
}

/// Begins the conversation; what the display says of itself.
async fn begin(
    line: &mut (impl AsyncRead + AsyncWrite + Unpin),
    request: &DisplayRequest,
) -> Result<Vec<u8>> {
    let cookie = Cookie::from_hex(&request.cookie).ok_or_else(|| odd("its cookie has another form"))?;
    let setup = DisplaySetup::ours(request.protocol.as_bytes(), cookie.expose());
    line.write_all(&setup.encode()).await?;
    let mut head = [0; 8];
    line.read_exact(&mut head).await?;
    let len = usize::from(u16_at(&head, 6).unwrap_or(0)) * 4;
    let mut rest = vec![0; len.min(MAX_SETUP)];
    line.read_exact(&mut rest).await?;
    if head.first() != Some(&1) {
        let said = rest.get(..usize::from(head[1])).unwrap_or_default();
        return Err(Error::other(format!("the display refuses: {}", String::from_utf8_lossy(said))));
    }
    Ok(rest)
}

/// The tower on its rock, and where the light points now.
fn draw(requests: &mut Requests, angle: i16) {
    requests.rectangle(SKY, [0, 0, WIDTH, 270]);
    requests.rectangle(SEA, [0, 270, WIDTH, 90]);
    // The light turns: wide to one side, narrow towards us, wide to the other.
    let reach = [240, 200, 140, 60, -60, -140, -200, -240, -140, -60, 60, 140];
    let reach = usize::try_from(angle).ok().and_then(|at| reach.get(at)).copied().unwrap_or(0);
    let spread = 12 + (240 - i16::abs(reach)) / 10;
    requests.polygon(BEAM, &[(240, 96), (240 + reach, 96 - spread), (240 + reach, 96 + spread)]);
    requests.polygon(ROCK, &[(120, 300), (190, 262), (300, 262), (380, 300)]);
    requests.polygon(WHITE, &[(222, 116), (258, 116), (272, 264), (208, 264)]);
    for (top, bottom, inset) in [(150, 182, 3), (216, 246, 9)] {
        requests.polygon(
            RED,
            &[(222 - inset, top), (258 + inset, top), (261 + inset, bottom), (219 - inset, bottom)],
        );
    }
    requests.rectangle(BRASS, [226, 84, 28, 26]);
    requests.rectangle(ROCK, [218, 110, 44, 6]);
    requests.polygon(ROCK, &[(220, 84), (240, 66), (260, 84)]);
    requests.rectangle(BEAM, [234, 90, 12, 14]);
}
