// Answers questions about files of a machine of Windows: version 3 of draft-ietf-secsh-filexfer-02, with a few of its extensions, over a pair of streams
// or in pieces. Nothing of it stays on the machine. It keeps to C# 5, which every Windows that is administered this way can compile.
namespace BrassLantern
{
    using System;
    using System.Collections.Generic;
    using System.IO;
    using System.Text;

    public sealed partial class FileService
    {
        const int MaxFrame = 256 * 1024, MaxData = MaxFrame - 1024, MaxOpen = 500, Page = 100, MaxWaiting = 1024 * 1024;
        const uint Ok = 0, End = 1, NoSuchFile = 2, Denied = 3, Failure = 4, BadMessage = 5, Unsupported = 8;
        static readonly UTF8Encoding Utf8 = new UTF8Encoding(false, true);
        static readonly DateTime Epoch = new DateTime(1970, 1, 1, 0, 0, 0, DateTimeKind.Utc);
        static FileService kept;

        readonly Dictionary<uint, object> open = new Dictionary<uint, object>();
        readonly MemoryStream answers = new MemoryStream();
        byte[] waiting = new byte[0];
        byte[] message;
        int at;
        uint next;

        // Answers until nothing more is asked.
        public static int Serve(Stream input, Stream output)
        {
            FileService service = new FileService();
            byte[] piece = new byte[MaxFrame];
            try
            {
                for (int read; (read = input.Read(piece, 0, piece.Length)) > 0;)
                {
                    byte[] answer = service.Take(piece, read, output);
                    output.Write(answer, 0, answer.Length);
                    output.Flush();
                }
            }
            finally { service.CloseAll(); }
            return 0;
        }

        // The same in pieces, for whoever has no streams.
        public static byte[] Answer(byte[] piece)
        {
            if (kept == null) kept = new FileService();
            return kept.Take(piece, piece.Length, null);
        }

        // What waits is given to the stream, where there is one, before it is more than fits in memory.
        byte[] Take(byte[] piece, int count, Stream output)
        {
            byte[] all = new byte[waiting.Length + count];
            Buffer.BlockCopy(waiting, 0, all, 0, waiting.Length);
            Buffer.BlockCopy(piece, 0, all, waiting.Length, count);
            answers.SetLength(0);
            int from = 0;
            while (all.Length - from >= 4)
            {
                uint length = (uint)(all[from] << 24 | all[from + 1] << 16 | all[from + 2] << 8 | all[from + 3]);
                if (length == 0 || length > MaxFrame) throw new InvalidDataException("a message of " + length + " bytes");
                if (all.Length - from - 4 < length) break;
                message = new byte[length];
                Buffer.BlockCopy(all, from + 4, message, 0, (int)length);
                from += 4 + (int)length;
                Handle();
                if (output != null && answers.Length > MaxWaiting)
                {
                    answers.WriteTo(output);
                    answers.SetLength(0);
                }
            }
            waiting = new byte[all.Length - from];
            Buffer.BlockCopy(all, from, waiting, 0, waiting.Length);
            return answers.ToArray();
        }

        // Reading of a message.
        byte U8() { Need(1); return message[at++]; }
        uint U32() { Need(4); at += 4; return (uint)(message[at - 4] << 24 | message[at - 3] << 16 | message[at - 2] << 8 | message[at - 1]); }
        long U64() { ulong high = U32(); ulong all = high << 32 | U32(); if (all > long.MaxValue) throw new Refusal(Failure, "beyond what files can have"); return (long)all; }
        void Need(uint count) { if (count > message.Length - at) throw new Refusal(BadMessage, "the message ends too early"); }
        byte[] Bytes() { uint count = U32(); Need(count); byte[] out_ = new byte[count]; Buffer.BlockCopy(message, at, out_, 0, (int)count); at += (int)count; return out_; }
        string Text()
        {
            try { return Utf8.GetString(Bytes()); }
            catch (ArgumentException) { throw new Refusal(Failure, "the name is not UTF-8, and Windows names files with text"); }
        }
        string Place() { string text = Text(); if (text.IndexOf('\0') >= 0) throw new Refusal(Failure, "a name with a zero in it"); return Names.Inward(text); }
        // What has no name that Windows has is not there.
        string Sought() { try { return Place(); } catch (Refusal refusal) { throw new Refusal(NoSuchFile, refusal.Message); } }
        string Below() { string place = Place(); if (place == null) throw new Refusal(Failure, "that is where the drives are"); return place; }

        // Writing of an answer.
        static void Put(Stream to, uint value) { to.Write(new byte[] { (byte)(value >> 24), (byte)(value >> 16), (byte)(value >> 8), (byte)value }, 0, 4); }
        static void Put(Stream to, ulong value) { Put(to, (uint)(value >> 32)); Put(to, (uint)value); }
        static void Put(Stream to, byte[] bytes) { Put(to, (uint)bytes.Length); to.Write(bytes, 0, bytes.Length); }
        static void Put(Stream to, string text) { Put(to, Encoding.UTF8.GetBytes(text)); }
        void Send(byte kind, uint id, MemoryStream body)
        {
            Put(answers, (uint)(5 + body.Length));
            answers.WriteByte(kind);
            Put(answers, id);
            body.WriteTo(answers);
        }
        void Status(uint id, uint code, string words)
        {
            MemoryStream body = new MemoryStream();
            Put(body, code); Put(body, words); Put(body, "");
            Send(101, id, body);
        }

        void Handle()
        {
            at = 0;
            byte kind = U8();
            if (kind == 1) { Hello(); return; }
            uint id = 0;
            try
            {
                id = U32();
                Do(kind, id);
            }
            catch (Refusal refusal) { Status(id, refusal.Code, refusal.Message); }
            catch (FileNotFoundException error) { Status(id, NoSuchFile, error.Message); }
            catch (DirectoryNotFoundException error) { Status(id, NoSuchFile, error.Message); }
            catch (DriveNotFoundException error) { Status(id, NoSuchFile, error.Message); }
            catch (UnauthorizedAccessException error) { Status(id, Denied, error.Message); }
            catch (System.Security.SecurityException error) { Status(id, Denied, error.Message); }
            // What is wrong with one question is no reason to answer none.
            catch (Exception error) { Status(id, Failure, error.Message); }
        }

        void Hello()
        {
            MemoryStream body = new MemoryStream();
            foreach (string name in new string[] { "posix-rename@openssh.com", "1", "fsync@openssh.com", "1", "statvfs@openssh.com", "2",
                                                   "limits@openssh.com", "1", "check-file", "1" })
                Put(body, name);
            Put(answers, (uint)(5 + body.Length));
            answers.WriteByte(2);
            Put(answers, 3u);
            body.WriteTo(answers);
        }

        void Do(byte kind, uint id)
        {
            switch (kind)
            {
                case 3: Open(id); return;
                case 4: Close(U32Handle()); break;
                case 5: Read(id); return;
                case 6: Write(); break;
                case 7: Describe(id, Look(Sought(), false)); return;
                case 8: { OpenFile file = File(); Describe(id, OfOpen(file)); return; }
                case 9: Change(Below()); break;
                case 10: ChangeOpen(File()); break;
                case 11: OpenFolder(id, Place()); return;
                case 12: NextNames(id); return;
                case 13: Remove(Below()); break;
                case 14: MakeFolder(Below()); break;
                case 15: RemoveFolder(Below()); break;
                case 16: OneName(id, Names.Outward(Place())); return;
                case 17: Describe(id, Look(Sought(), true)); return;
                case 18: Rename(Below(), Below(), false); break;
                case 200: if (Extended(id)) return; break;
                default: throw new Refusal(Unsupported, "the file service has no such step");
            }
            Status(id, Ok, "");
        }

        bool Extended(uint id)
        {
            MemoryStream body = new MemoryStream();
            switch (Text())
            {
                case "posix-rename@openssh.com": Rename(Below(), Below(), true); return false;
                case "fsync@openssh.com": File().Stream.Flush(true); return false;
                case "limits@openssh.com":
                    Put(body, (ulong)MaxFrame); Put(body, (ulong)MaxData); Put(body, (ulong)MaxData); Put(body, (ulong)MaxOpen);
                    break;
                case "statvfs@openssh.com": Room(body, Below()); break;
                case "check-file-name": Digest(body, Below()); break;
                default: throw new Refusal(Unsupported, "the file service has no such step");
            }
            Send(201, id, body);
            return true;
        }
    }
}
