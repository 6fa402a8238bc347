using Umbrek.Service.Hosting;

DataDirectory.KeepToSelf();
return await ServiceCommands.Build().Parse(args).InvokeAsync();
