// Paths of Windows: what may be asked for, and what it would be taken for.
namespace BrassLantern
{
    using System;
    using System.IO;

    // What is said to whoever asked.
    public sealed class Refusal : Exception
    {
        public readonly uint Code;
        public Refusal(uint code, string words) : base(words) { Code = code; }
    }

    // Paths as they are said and as the machine has them.
    public static class Names
    {
        public static bool Windows = Path.DirectorySeparatorChar == '\\';

        // Why Windows would take a part of a path for something else than a file of that name; null where it would not.
        public static string Fault(string part)
        {
            if (part == "." || part == "..") return null;
            foreach (char one in part)
            {
                if (one < 32 || "\\:*?\"<>|".IndexOf(one) >= 0) return "Windows has no names with that character in them";
            }
            if (part.EndsWith(".") || part.EndsWith(" ")) return "Windows has no names that end with a dot or a space";
            string stem = part.Split('.')[0].TrimEnd(' ').ToUpperInvariant();
            bool numbered = stem.Length == 4 && (stem.StartsWith("COM") || stem.StartsWith("LPT")) && char.IsDigit(stem[3]);
            if (numbered || stem == "CON" || stem == "PRN" || stem == "AUX" || stem == "NUL")
                return "Windows takes that name for a device";
            return null;
        }

        // The drive that a path begins with, and its other parts; null where it begins with none.
        public static string Drive(ref string path)
        {
            string rest = path.StartsWith("/") ? path.Substring(1) : path;
            bool has = rest.Length >= 2 && rest[1] == ':' && char.IsLetter(rest[0]) && (rest.Length == 2 || rest[2] == '/');
            if (!has) return null;
            path = rest.Substring(2);
            return rest.Substring(0, 2);
        }

        // The path as the machine has it; null for what holds the drives.
        public static string Inward(string said)
        {
            string home = Environment.GetFolderPath(Environment.SpecialFolder.UserProfile);
            if (!Windows) return Path.GetFullPath(said.Length == 0 ? home : Path.Combine(home, said));
            string rest = said;
            string start = Drive(ref rest);
            bool share = start == null && said.StartsWith("//");
            foreach (string part in rest.Split('/'))
            {
                string fault = Fault(part);
                if (fault != null) throw new Refusal(4, fault);
            }
            if (start == null && !share && said.StartsWith("/"))
            {
                if (said.Trim('/').Length == 0) return null;
                throw new Refusal(2, "a path from the top begins with a drive, as C:/");
            }
            string whole = rest.Replace('/', '\\');
            if (start != null) return Path.GetFullPath(start + (whole.Length == 0 ? "\\" : whole));
            return Path.GetFullPath(share ? whole : Path.Combine(home, whole));
        }

        // The path as it is said.
        public static string Outward(string path)
        {
            if (!Windows) return path;
            if (path == null) return "/";
            string slashed = path.Replace('\\', '/');
            return slashed.StartsWith("//") ? slashed : "/" + slashed;
        }
    }
}
