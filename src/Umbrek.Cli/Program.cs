using Spectre.Console;
AnsiConsole.Write(new Table().AddColumn("a").AddRow("b"));
