// What is done with files.
namespace BrassLantern
{
    using System;
    using System.Collections.Generic;
    using System.IO;
    using System.Security.Cryptography;

    // A file that is open, and what it is to be known as once it is closed.
    sealed class OpenFile
    {
        public FileStream Stream;
        public string Path;
        public bool Appends;
        public bool HasTimes;
        public DateTime Read, Written;
    }

    public sealed partial class FileService
    {
        static void Room(MemoryStream body, string place)
        {
            DriveInfo drive = new DriveInfo(Path.GetPathRoot(place));
            ulong unit = 4096, units = (ulong)drive.TotalSize / unit, free = (ulong)drive.TotalFreeSpace / unit, mine = (ulong)drive.AvailableFreeSpace / unit;
            foreach (ulong value in new ulong[] { unit, unit, units, free, mine, 0, 0, 0, 0, 0, 255 }) Put(body, value);
        }

        // What a file holds, or its beginning, by draft-ietf-secsh-filexfer-extensions §3.
        void Digest(MemoryStream body, string place)
        {
            bool known = Array.IndexOf(Text().Split(','), "sha256") >= 0;
            long from = U64(), length = U64();
            if (!known || U32() != 0) throw new Refusal(Unsupported, "digests are SHA-256 of the whole");
            HashAlgorithm hash;
            try { hash = SHA256.Create(); }
            // Where policy lets through but what was certified, and this is not.
            catch (Exception error) { throw new Refusal(Unsupported, error.Message); }
            using (hash)
            using (FileStream file = new FileStream(place, FileMode.Open, FileAccess.Read, FileShare.ReadWrite | FileShare.Delete, 1, FileOptions.SequentialScan))
            {
                file.Seek(from, SeekOrigin.Begin);
                byte[] piece = new byte[MaxFrame];
                bool all = length == 0;
                while (all || length > 0)
                {
                    int read = file.Read(piece, 0, all ? piece.Length : (int)Math.Min(length, piece.Length));
                    if (read == 0) break;
                    length -= all ? 0 : read;
                    hash.TransformBlock(piece, 0, read, null, 0);
                }
                if (length > 0 && !all) throw new Refusal(End, "the file ends before that");
                hash.TransformFinalBlock(piece, 0, 0);
                Put(body, "sha256");
                body.Write(hash.Hash, 0, hash.Hash.Length);
            }
        }

        // What is known of a file.
        struct Known { public bool IsFolder, IsLink, ReadOnly, HasSize; public ulong Size; public DateTime Read, Written; }

        static Known OfInfo(FileSystemInfo info, bool follow)
        {
            Known known = new Known();
            known.IsFolder = (info.Attributes & FileAttributes.Directory) != 0;
            // A file may be marked this way because the system keeps its bytes elsewhere: it is a file all the same.
            known.IsLink = !follow && known.IsFolder && (info.Attributes & FileAttributes.ReparsePoint) != 0;
            known.ReadOnly = !known.IsFolder && (info.Attributes & FileAttributes.ReadOnly) != 0;
            FileInfo file = info as FileInfo;
            known.HasSize = file != null;
            known.Size = file == null ? 0 : (ulong)file.Length;
            known.Read = info.LastAccessTimeUtc;
            known.Written = info.LastWriteTimeUtc;
            return known;
        }

        static Known Look(string place, bool follow)
        {
            if (place == null) return new Known { IsFolder = true, Read = Epoch, Written = Epoch };
            FileSystemInfo info = new FileInfo(place);
            if (!info.Exists)
            {
                info = new DirectoryInfo(place);
                if (!info.Exists) throw new Refusal(NoSuchFile, "there is no such file or folder");
            }
            return OfInfo(info, follow);
        }

        static Known OfOpen(OpenFile file)
        {
            Known known = Look(file.Path, true);
            known.Size = (ulong)file.Stream.Length;
            if (file.HasTimes) { known.Read = file.Read; known.Written = file.Written; }
            return known;
        }

        static uint Seconds(DateTime time)
        {
            double since = (time - Epoch).TotalSeconds;
            return since < 0 ? 0 : since > uint.MaxValue ? uint.MaxValue : (uint)since;
        }

        static void Put(Stream to, Known known)
        {
            // Lists of who may do what are not these: all that can be said in a mode is what it is and whether it can be written to.
            uint mode = known.IsLink ? 0xA1FFu : known.IsFolder ? 0x41EDu : known.ReadOnly ? 0x8124u : 0x81A4u;
            Put(to, (known.HasSize ? 1u : 0) | 4u | 8u);
            if (known.HasSize) Put(to, known.Size);
            Put(to, mode);
            Put(to, Seconds(known.Read));
            Put(to, Seconds(known.Written));
        }

        void Describe(uint id, Known known) { MemoryStream body = new MemoryStream(); Put(body, known); Send(105, id, body); }

        void OneName(uint id, string name)
        {
            MemoryStream body = new MemoryStream();
            Put(body, 1u); Put(body, name); Put(body, name); Put(body, 0u);
            Send(104, id, body);
        }

        // Handles.
        void Hold(uint id, object what)
        {
            if (open.Count >= MaxOpen) throw new Refusal(Failure, "too many files are open");
            while (open.ContainsKey(next)) next++;
            MemoryStream body = new MemoryStream();
            Put(body, 4u); Put(body, next);
            open[next++] = what;
            Send(102, id, body);
        }
        uint U32Handle() { byte[] handle = Bytes(); if (handle.Length != 4) throw new Refusal(Failure, "no such handle"); return (uint)(handle[0] << 24 | handle[1] << 16 | handle[2] << 8 | handle[3]); }
        object Held() { object held; if (!open.TryGetValue(U32Handle(), out held)) throw new Refusal(Failure, "no such handle"); return held; }
        OpenFile File() { OpenFile file = Held() as OpenFile; if (file == null) throw new Refusal(Failure, "that is no file"); return file; }

        void Open(uint id)
        {
            string place = Below();
            uint flags = U32();
            Attributes();
            if (Directory.Exists(place)) throw new Refusal(Failure, "it is a folder");
            bool writes = (flags & 2) != 0, makes = (flags & 8) != 0, cuts = (flags & 16) != 0, isNew = (flags & 32) != 0;
            FileMode mode = makes && isNew ? FileMode.CreateNew : makes && cuts ? FileMode.Create : makes ? FileMode.OpenOrCreate : cuts ? FileMode.Truncate : FileMode.Open;
            FileAccess access = writes ? ((flags & 1) != 0 ? FileAccess.ReadWrite : FileAccess.Write) : FileAccess.Read;
            FileShare share = writes ? FileShare.Read : FileShare.ReadWrite | FileShare.Delete;
            if (open.Count >= MaxOpen) throw new Refusal(Failure, "too many files are open");
            FileStream stream = new FileStream(place, mode, access, share, 1);
            Hold(id, new OpenFile { Stream = stream, Path = place, Appends = (flags & 4) != 0 });
        }

        void Close(uint handle)
        {
            object held;
            if (!open.TryGetValue(handle, out held)) throw new Refusal(Failure, "no such handle");
            open.Remove(handle);
            Close(held);
        }

        static void Close(object held)
        {
            OpenFile file = held as OpenFile;
            if (file == null) return;
            file.Stream.Dispose();
            // Closing it would have set them once more.
            if (file.HasTimes) SetTimes(file.Path, file.Read, file.Written);
        }

        static void SetTimes(string place, DateTime read, DateTime written)
        {
            if (Directory.Exists(place)) { Directory.SetLastWriteTimeUtc(place, written); return; }
            System.IO.File.SetLastAccessTimeUtc(place, read);
            System.IO.File.SetLastWriteTimeUtc(place, written);
        }

        void CloseAll()
        {
            foreach (object held in open.Values) { try { Close(held); } catch (Exception) { } }
            open.Clear();
        }

        void Read(uint id)
        {
            OpenFile file = File();
            long from = U64();
            byte[] data = new byte[Math.Min(U32(), (uint)MaxData)];
            file.Stream.Seek(from, SeekOrigin.Begin);
            int read = file.Stream.Read(data, 0, data.Length);
            if (read == 0 && data.Length > 0) throw new Refusal(End, "");
            MemoryStream body = new MemoryStream(4 + read);
            Put(body, (uint)read);
            body.Write(data, 0, read);
            Send(103, id, body);
        }

        void Write()
        {
            OpenFile file = File();
            long from = U64();
            uint count = U32();
            Need(count);
            file.Stream.Seek(file.Appends ? file.Stream.Length : from, SeekOrigin.Begin);
            file.Stream.Write(message, at, (int)count);
        }

        // Attributes as they are said. Owners and modes say nothing here.
        struct Said { public bool HasSize, HasTimes; public long Size; public DateTime Read, Written; }

        Said Attributes()
        {
            Said said = new Said();
            uint flags = U32();
            if ((flags & 1) != 0) { said.HasSize = true; said.Size = U64(); }
            if ((flags & 2) != 0) { U32(); U32(); }
            if ((flags & 4) != 0) U32();
            if ((flags & 8) != 0) { said.HasTimes = true; said.Read = Epoch.AddSeconds(U32()); said.Written = Epoch.AddSeconds(U32()); }
            return said;
        }

        void Change(string place)
        {
            Look(place, true);
            Said said = Attributes();
            if (said.HasSize)
                using (FileStream file = new FileStream(place, FileMode.Open, FileAccess.Write, FileShare.Read, 1)) file.SetLength(said.Size);
            if (said.HasTimes) SetTimes(place, said.Read, said.Written);
        }

        void ChangeOpen(OpenFile file)
        {
            Said said = Attributes();
            if (said.HasSize) file.Stream.SetLength(said.Size);
            if (said.HasTimes) { file.HasTimes = true; file.Read = said.Read; file.Written = said.Written; }
        }

        void OpenFolder(uint id, string place)
        {
            List<KeyValuePair<string, Known>> names = new List<KeyValuePair<string, Known>>();
            if (place == null)
                foreach (DriveInfo drive in DriveInfo.GetDrives())
                    names.Add(new KeyValuePair<string, Known>(drive.Name.TrimEnd('\\'), Look(null, true)));
            else
                foreach (FileSystemInfo info in new DirectoryInfo(place).EnumerateFileSystemInfos())
                {
                    // One that goes meanwhile is not there.
                    try { names.Add(new KeyValuePair<string, Known>(info.Name, OfInfo(info, false))); }
                    catch (IOException) { }
                }
            Hold(id, new Queue<KeyValuePair<string, Known>>(names));
        }

        void NextNames(uint id)
        {
            Queue<KeyValuePair<string, Known>> names = Held() as Queue<KeyValuePair<string, Known>>;
            if (names == null) throw new Refusal(Failure, "that is no folder");
            if (names.Count == 0) throw new Refusal(End, "");
            MemoryStream body = new MemoryStream();
            int count = Math.Min(names.Count, Page);
            Put(body, (uint)count);
            for (int i = 0; i < count; i++)
            {
                KeyValuePair<string, Known> one = names.Dequeue();
                Put(body, one.Key); Put(body, one.Key); Put(body, one.Value);
            }
            Send(104, id, body);
        }

        void Remove(string place)
        {
            Known known = Look(place, false);
            if (known.IsLink) { Directory.Delete(place, false); return; }
            if (known.IsFolder) throw new Refusal(Failure, "it is a folder");
            System.IO.File.Delete(place);
        }

        void MakeFolder(string place)
        {
            Attributes();
            if (System.IO.File.Exists(place) || Directory.Exists(place)) throw new Refusal(Failure, "there is something by that name");
            if (!Directory.Exists(Path.GetDirectoryName(place))) throw new Refusal(NoSuchFile, "there is no folder for it");
            Directory.CreateDirectory(place);
        }

        void RemoveFolder(string place)
        {
            if (!Look(place, false).IsFolder) throw new Refusal(Failure, "it is no folder");
            Directory.Delete(place, false);
        }

        void Rename(string from, string to, bool over)
        {
            bool isFolder = Look(from, false).IsFolder;
            if (Directory.Exists(to) && !(Names.Windows && string.Equals(from, to, StringComparison.OrdinalIgnoreCase))) throw new Refusal(Failure, "there is a folder by that name");
            if (isFolder) { Directory.Move(from, to); return; }
            bool isSame = string.Equals(from, to, StringComparison.OrdinalIgnoreCase);
            if (isSame && Names.Windows || !System.IO.File.Exists(to)) { System.IO.File.Move(from, to); return; }
            if (!over) throw new Refusal(Failure, "there is something by that name");
            // In one step; who may do what with the file stays as it was.
            System.IO.File.Replace(from, to, null, true);
        }
    }
}
