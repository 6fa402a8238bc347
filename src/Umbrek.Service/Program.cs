using Umbrek.Service.Hosting;

return await ServiceCommands.Build().Parse(args).InvokeAsync();
